// One's own folder, sealed under one's own passphrase.

import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  type Folder,
  type PersonalItem,
  type Revealed,
  api,
  result,
  wholeList,
  ifMatch,
} from "../api";
import {
  Act,
  Card,
  Choice,
  DrawerButton,
  Empty,
  Field,
  Form,
  Lines,
  Page,
  text,
  Trouble,
  When,
} from "../parts";
import { atLeast } from "./access-levels";
import { Shown } from "./reveal";
import { useFolders } from "./folders";

const AFTER = ["personal", "personal-items"];

function Fields({ present }: { present?: PersonalItem }) {
  return (
    <>
      <Field label="Name" name="name" defaultValue={present?.name} required />
      <Field label="User name" name="user_name" defaultValue={present?.user_name} />
      <Lines label="URL" name="url" rows={2} defaultValue={present?.url} />
      <Field
        label="Password"
        name="password"
        type="password"
        autoComplete="new-password"
        hint={present ? "Leave it empty to keep it." : "Leave it empty to generate one."}
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

function Thing({ it, folders }: { it: PersonalItem; folders: Folder[] }) {
  const [shown, setShown] = useState<Revealed | null>(null);
  const reveal = useMutation({
    mutationFn: () =>
      result(
        api.POST("/api/v1/personal/items/{item}/reveal", { params: { path: { item: it.id } } }),
      ),
    onSuccess: setShown,
  });
  return (
    <li className="border-b border-base-300 py-2">
      <p className="flex flex-wrap items-baseline justify-between gap-2">
        <strong>
          {it.name}{" "}
          <span title="Personal: nobody else has access" aria-label="personal">
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
      <DrawerButton label={`Edit ${it.name}`}>
        {(close) => (
          <Form
            label="Save"
            after={AFTER}
            done={close}
            submit={(data) =>
              result(
                api.PATCH("/api/v1/personal/items/{item}", {
                  params: { path: { item: it.id }, header: ifMatch(it.revision) },
                  body: given(data),
                }),
              )
            }
          >
            <Fields present={it} />
          </Form>
        )}
      </DrawerButton>
      <DrawerButton label={`Move ${it.name} to a shared folder`}>
        {(close) => (
          <Form
            label="Move to a folder"
            after={[...AFTER, "credentials"]}
            done={close}
            submit={(data) =>
              result(
                api.POST("/api/v1/personal/items/{item}/move-out", {
                  params: { path: { item: it.id } },
                  body: { folder: text(data, "folder") },
                }),
              )
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
      </DrawerButton>
      <Act
        label={`Remove ${it.name}`}
        look="btn-sm btn-ghost"
        run={() =>
          result(
            api.DELETE("/api/v1/personal/items/{item}", {
              params: { path: { item: it.id }, header: ifMatch(it.revision) },
            }),
          )
        }
        after={AFTER}
        confirm={`Remove ${it.name} permanently? Personal items have no bin.`}
      />
    </li>
  );
}

function Inside() {
  const items = useQuery({
    queryKey: ["personal-items"],
    queryFn: () => wholeList(api.GET("/api/v1/personal/items")),
    retry: false,
  });
  const folders = useFolders();
  return (
    <Card
      title="Items"
      actions={
        <Act label="Lock" run={() => result(api.POST("/api/v1/personal/lock"))} after={AFTER} />
      }
    >
      <Trouble error={items.error} />
      {items.data?.length === 0 && (
        <Empty>Your personal folder is empty. Only you can see what you add here.</Empty>
      )}
      <ul>
        {items.data?.map((it) => (
          <Thing key={it.id} it={it} folders={folders.data ?? []} />
        ))}
      </ul>
      <DrawerButton label="Add to personal folder">
        {(close) => (
          <Form
            label="Add item"
            after={AFTER}
            done={close}
            submit={(data) => result(api.POST("/api/v1/personal/items", { body: given(data) }))}
          >
            <Fields />
          </Form>
        )}
      </DrawerButton>
      <DrawerButton label="New passphrase">
        {(close) => (
          <Form
            label="Save passphrase"
            after={AFTER}
            done={close}
            submit={(data) =>
              twice(data, (passphrase) =>
                result(
                  api.PUT("/api/v1/personal/passphrase", {
                    body: { present: text(data, "present"), passphrase },
                  }),
                ),
              )
            }
          >
            <Field
              label="Current passphrase"
              name="present"
              type="password"
              autoComplete="off"
              required
            />
            <Twice />
          </Form>
        )}
      </DrawerButton>
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
  if (text(data, "passphrase") !== text(data, "again")) throw new Error("The two entries differ.");
  return send(text(data, "passphrase"));
}

export function Personal() {
  const state = useQuery({
    queryKey: ["personal"],
    queryFn: () => result(api.GET("/api/v1/personal")),
  });
  const it = state.data;
  return (
    <Page title="Personal folder">
      <Trouble error={state.error} />
      {it && !it.allowed && (
        <p className="quiet">
          Your organisation does not allow personal folders.
          {it.exists && " You can still open yours and move what is in it to a folder."}
        </p>
      )}
      {it && !it.exists && it.allowed && (
        <Card title="Create your personal folder">
          <p>
            Only you can open it: no administrator, nobody with the database or a backup, nobody
            with the server’s keys.
          </p>
          <p className="my-2 border-l-4 border-warning pl-3 font-semibold">
            A forgotten passphrase cannot be recovered by anybody. What is in the folder is then
            lost permanently.
          </p>
          <Form
            label="Create personal folder"
            after={AFTER}
            submit={(data) =>
              twice(data, (passphrase) =>
                result(api.POST("/api/v1/personal", { body: { passphrase } })),
              )
            }
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
            submit={(data) =>
              result(
                api.POST("/api/v1/personal/open", {
                  body: { passphrase: text(data, "passphrase") },
                }),
              )
            }
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
    </Page>
  );
}
