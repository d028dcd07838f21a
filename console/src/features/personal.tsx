// One's own folder, sealed under one's own passphrase.

import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  type Folder,
  type PersonalState,
  type PersonalThing,
  type Revealed,
  all,
  api,
} from "../api";
import { Act, Card, Choice, Empty, Field, Fold, Form, Lines, Trouble, When, text } from "../parts";
import { atLeast } from "./access-levels";
import { Shown } from "./secret";

const AFTER = ["personal", "personal-items"];

function Fields({ present }: { present?: PersonalThing }) {
  return (
    <>
      <Field label="Name" name="name" defaultValue={present?.name} required />
      <Field label="User name" name="user_name" defaultValue={present?.user_name} />
      <Lines label="Used at" name="url" rows={2} defaultValue={present?.url} />
      <Field
        label="Password"
        name="password"
        type="password"
        autoComplete="new-password"
        hint={present ? "Left empty, it stays." : "Left empty, one is generated."}
      />
      <Lines label="Note" name="note" defaultValue={present?.note} />
    </>
  );
}

function given(data: FormData): object {
  return {
    name: text(data, "name"),
    user_name: text(data, "user_name"),
    url: text(data, "url").replaceAll("\r\n", "\n"),
    note: text(data, "note").replaceAll("\r\n", "\n"),
    password: text(data, "password") || undefined,
  };
}

function Thing({ it, folders }: { it: PersonalThing; folders: Folder[] }) {
  const [shown, setShown] = useState<Revealed | null>(null);
  const reveal = useMutation({
    mutationFn: () => api.post<Revealed>(`/personal/items/${it.id}/reveal`),
    onSuccess: setShown,
  });
  return (
    <li className="border-b border-base-300 py-2">
      <p className="flex flex-wrap items-baseline justify-between gap-2">
        <strong>
          {it.name}{" "}
          <span title="personal: nobody else reaches it" aria-label="personal">
            ◉
          </span>
        </strong>
        <span className="quiet">
          {it.user_name} {it.url.split("\n")[0]}, changed <When at={it.changed_at} />
        </span>
      </p>
      {it.note && <p className="quiet whitespace-pre-line">{it.note}</p>}
      {shown ? (
        <Shown shown={shown} hide={() => setShown(null)} />
      ) : (
        <button
          type="button"
          className="btn btn-sm"
          onClick={() => reveal.mutate()}
          disabled={reveal.isPending}
        >
          Reveal {it.name}
        </button>
      )}
      <Trouble error={reveal.error} />
      <Fold label={`Change ${it.name}`}>
        {(close) => (
          <Form
            label="Save"
            after={AFTER}
            done={close}
            submit={(data) => api.patch(`/personal/items/${it.id}`, given(data), it.version)}
          >
            <Fields present={it} />
          </Form>
        )}
      </Fold>
      <Fold label={`Take ${it.name} out into a shared folder`}>
        {(close) => (
          <Form
            label="Move to a folder"
            after={[...AFTER, "credentials"]}
            done={close}
            submit={(data) =>
              api.post(`/personal/items/${it.id}/move-out`, { folder: text(data, "folder") })
            }
          >
            <Choice
              label="Into"
              name="folder"
              options={folders
                .filter((folder) => atLeast(folder.level, "edit"))
                .map((folder) => [folder.id, folder.path])}
            />
            <p className="quiet text-sm">
              Everybody with access to that folder will have access to it.
            </p>
          </Form>
        )}
      </Fold>
      <Act
        label={`Remove ${it.name}`}
        look="btn-sm btn-ghost"
        run={() => api.remove(`/personal/items/${it.id}`, it.version)}
        after={AFTER}
        confirm={`Remove ${it.name} permanently? Personal things have no bin.`}
      />
    </li>
  );
}

function Inside() {
  const things = useQuery({
    queryKey: ["personal-items"],
    queryFn: () => all<PersonalThing>("/personal/items"),
    retry: false,
  });
  const folders = useQuery({
    queryKey: ["folders"],
    queryFn: () => all<Folder>("/folders", 50_000),
  });
  return (
    <Card
      title="In it"
      actions={<Act label="Lock" run={() => api.post("/personal/lock")} after={AFTER} />}
    >
      <Trouble error={things.error} />
      {things.data?.length === 0 && (
        <Empty>It is empty. What you add here is seen by nobody else.</Empty>
      )}
      <ul>
        {things.data?.map((it) => (
          <Thing key={it.id} it={it} folders={folders.data ?? []} />
        ))}
      </ul>
      <Fold label="Add to personal folder">
        {(close) => (
          <Form
            label="Add it"
            after={AFTER}
            done={close}
            submit={(data) => api.post("/personal/items", given(data))}
          >
            <Fields />
          </Form>
        )}
      </Fold>
      <Fold label="New passphrase">
        {(close) => (
          <Form
            label="Change the passphrase"
            after={AFTER}
            done={close}
            submit={(data) =>
              twice(data, (passphrase) =>
                api.put("/personal/passphrase", { present: text(data, "present"), passphrase }, 0),
              )
            }
          >
            <Field
              label="Present passphrase"
              name="present"
              type="password"
              autoComplete="off"
              required
            />
            <Twice />
          </Form>
        )}
      </Fold>
    </Card>
  );
}

function Twice() {
  return (
    <>
      <Field
        label="Passphrase"
        name="passphrase"
        type="password"
        autoComplete="new-password"
        minLength={12}
        required
      />
      <Field
        label="Repeat the password"
        name="again"
        type="password"
        autoComplete="new-password"
        required
      />
    </>
  );
}

async function twice(
  data: FormData,
  send: (passphrase: string) => Promise<unknown>,
): Promise<unknown> {
  if (text(data, "passphrase") !== text(data, "again"))
    throw new Error("The two are not the same.");
  return send(text(data, "passphrase"));
}

export function Personal() {
  const state = useQuery({
    queryKey: ["personal"],
    queryFn: () => api.get<PersonalState>("/personal"),
  });
  const it = state.data;
  return (
    <div className="flex max-w-3xl flex-col gap-3">
      <h1 className="text-xl font-semibold">Personal folder</h1>
      <Trouble error={state.error} />
      {it && !it.allowed && (
        <p className="quiet">
          Your organisation does not let people keep personal folders.
          {it.exists && " You can still open yours and move what is in it to a folder."}
        </p>
      )}
      {it && !it.exists && it.allowed && (
        <Card title="Make one">
          <p>
            Only you can open it: no administrator, nobody with the database or a backup, nobody
            with the server’s keys.
          </p>
          <p className="my-2 border-l-4 border-warning pl-3 font-semibold">
            A forgotten passphrase cannot be recovered by anybody. What is in the folder is then
            lost for good.
          </p>
          <Form
            label="Create personal folder"
            after={AFTER}
            submit={(data) => twice(data, (passphrase) => api.post("/personal", { passphrase }))}
          >
            <Twice />
          </Form>
        </Card>
      )}
      {it?.exists && !it.open && (
        <Card title="Open it">
          <Form
            label="Open"
            after={AFTER}
            submit={(data) => api.post("/personal/open", { passphrase: text(data, "passphrase") })}
          >
            <Field
              label="Passphrase"
              name="passphrase"
              type="password"
              autoComplete="off"
              required
            />
          </Form>
        </Card>
      )}
      {it?.open && <Inside />}
    </div>
  );
}
