// Access as a whole: as code, in order, in other hands.

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import {
  type Folder,
  type Me,
  type Person,
  api,
  result,
  all,
  fileBody,
  type FixAccessIssues,
  fileOf,
} from "../api";
import {
  Ask,
  Card,
  Choice,
  Empty,
  Field,
  Form,
  Page,
  Table,
  Trouble,
  Words,
  keepFile,
  text,
  told,
} from "../parts";
import { atLeast } from "./access-levels";
import { ShiftTable, Shifts } from "./access-preview";
import { useFolders } from "./folders";

const AFTER = [
  "access-issues",
  "grants",
  "folders",
  "credentials",
  "groups",
  "gates",
  "policies",
  "password-rule",
];

/** A number of things, in words. */
const counted = (number: number, thing: string) => `${number} ${thing}${number === 1 ? "" : "s"}`;

/** What a file would change, and the button that applies it. */
function Compared({ file, clear }: { file: File; clear: () => void }) {
  const client = useQueryClient();
  const compared = useQuery({
    queryKey: ["access-file", file.name, file.lastModified],
    queryFn: () => result(api.POST("/api/v1/access/compare", { body: fileBody(file) })),
    retry: false,
    gcTime: 0,
  });
  const apply = useMutation({
    mutationFn: (state: string) =>
      result(
        api.POST("/api/v1/access/apply", {
          params: { query: { expect: state } },
          body: fileBody(file),
        }),
      ),
    onSuccess: async (made) => {
      told(made.count === 1 ? "1 change is made." : `${made.count} changes are made.`);
      await Promise.all(AFTER.map((key) => client.invalidateQueries({ queryKey: [key] })));
      clear();
    },
  });
  if (!compared.data)
    return compared.error ? <Trouble error={compared.error} /> : <p role="status">Comparing …</p>;
  const { changes, count, state, preview } = compared.data;
  if (count === 0) return <p role="status">There is nothing to change.</p>;
  return (
    <div className="flex flex-col gap-2 border-t border-base-300 pt-2">
      <div
        className="max-h-80 overflow-y-auto"
        tabIndex={0}
        role="group"
        aria-label="Planned changes"
      >
        <Table label="Planned changes" heads={["Line", "Where", "Planned changes"]}>
          {changes.map((change) => (
            <tr key={`${change.target_type} ${change.place} ${change.text}`}>
              <td className="tabular-nums">{change.line}</td>
              <td>{change.place}</td>
              <td>
                <Words text={change.text} />
              </td>
            </tr>
          ))}
        </Table>
      </div>
      {count > changes.length && (
        <p className="quiet text-sm">There are {count} changes; these are the first.</p>
      )}
      <ShiftTable preview={preview} />
      <Trouble error={apply.error} />
      <div className="flex gap-2">
        <button
          type="button"
          className="btn btn-primary btn-sm"
          disabled={apply.isPending}
          onClick={() => apply.mutate(state)}
        >
          {apply.isPending
            ? "Applying …"
            : `Apply ${count === 1 ? "1 change" : `${count} changes`}`}
        </button>
        <button type="button" className="btn btn-sm" onClick={clear}>
          Cancel
        </button>
      </div>
    </div>
  );
}

function AsCode({ folders }: { folders: Folder[] }) {
  const [file, setFile] = useState<File | null>(null);
  const stewarded = folders.filter((folder) => atLeast(folder.level, "steward"));
  const write = async (data: FormData) => {
    const below = text(data, "below");
    keepFile(
      await fileOf(
        api.GET("/api/v1/access", {
          params: { query: { below: below || undefined } },
          parseAs: "blob",
        }),
      ),
      "access.toml",
    );
  };
  if (stewarded.length === 0) return <Empty>There is no folder that you are a steward of.</Empty>;
  return (
    <div className="flex flex-col gap-2">
      <p>
        Folders, groups, grants, gates and password policies as one text file. Edit the file,
        compare it, and apply it, all of it or nothing. What the file does not name is left alone.
      </p>
      <Form label="Export the file" submit={write} keep>
        <Choice
          label="Folder"
          name="below"
          options={[
            ["", "All that I am a steward of, with groups and policies"],
            ...stewarded.map((folder): [string, string] => [folder.path, folder.path]),
          ]}
        />
      </Form>
      <Field
        label="File to compare"
        name="access-file"
        type="file"
        className="file-input file-input-sm w-full"
        accept=".toml,.txt"
        onChange={(event) => setFile(event.target.files?.[0] ?? null)}
      />
      {file && <Compared file={file} clear={() => setFile(null)} />}
    </div>
  );
}

const TYPES: Record<string, string> = {
  "no-steward": "has no steward who can sign in",
  left: "grantee has left",
  ended: "expired",
  redundant: "redundant: another grant gives as much",
};

function OutOfOrder({ people }: { people: Person[] }) {
  const client = useQueryClient();
  const found = useQuery({
    queryKey: ["access-issues"],
    queryFn: () => all((query) => api.GET("/api/v1/access-issues", { params: { query } })),
  });
  const [chosen, setChosen] = useState<Set<string>>(new Set());
  const items = found.data ?? [];
  const picked = items.filter((item) => chosen.has(item.id));
  const folders = picked.filter((item) => item.type === "no-steward");
  const grants = picked.filter((item) => item.type !== "no-steward");
  const fix = async (body: FixAccessIssues) => {
    const fixed = await result(api.POST("/api/v1/access-issues", { body }));
    setChosen(new Set());
    told(
      fixed.appointed > 0
        ? `Stewards appointed: ${counted(fixed.appointed, "folder")}.`
        : `Removed: ${counted(fixed.withdrawn, "grant")}.`,
    );
    await Promise.all(AFTER.map((key) => client.invalidateQueries({ queryKey: [key] })));
  };
  const [dropping, setDropping] = useState(false);
  const toggle = (id: string) => {
    const next = new Set(chosen);
    if (!next.delete(id)) next.add(id);
    setChosen(next);
  };
  if (found.isSuccess && items.length === 0)
    return (
      <Empty>
        There are no access issues: every folder has a steward, and no grant is redundant or
        expired.
      </Empty>
    );
  return (
    <>
      <Trouble error={found.error} />
      <Table label="Access issues" heads={["", "Where", "For", "Level", "Issue"]}>
        {items.map((item) => (
          <tr key={item.id}>
            <td>
              <input
                type="checkbox"
                className="checkbox checkbox-sm"
                aria-label={`Choose ${item.place} ${item.subject_name}`}
                checked={chosen.has(item.id)}
                onChange={() => toggle(item.id)}
              />
            </td>
            <td>{item.place}</td>
            <td>{item.subject_name}</td>
            <td>{item.level}</td>
            <td>{TYPES[item.type] ?? item.type}</td>
          </tr>
        ))}
      </Table>
      <div className="mt-2 flex flex-wrap items-end gap-2">
        <button
          type="button"
          className="btn btn-sm"
          onClick={() =>
            setChosen(
              new Set(items.filter((item) => item.type !== "no-steward").map((item) => item.id)),
            )
          }
        >
          Select unused grants
        </button>
        <button
          type="button"
          className="btn btn-sm"
          disabled={grants.length === 0}
          onClick={() => setDropping(true)}
        >
          Remove {counted(grants.length, "grant")} …
        </button>
      </div>
      {folders.length > 0 && (
        <Form
          label={
            folders.length === 1 ? "Add as steward" : `Add as steward of ${folders.length} folders`
          }
          submit={(data) =>
            fix({ folders: folders.map((item) => item.id), person: text(data, "person") })
          }
        >
          <Choice
            label="Who"
            name="person"
            options={people
              .filter((person) => person.state === "active")
              .map((person) => [person.id, person.display_name])}
          />
        </Form>
      )}
      {dropping && (
        <Ask
          title={`Remove ${counted(grants.length, "grant")}?`}
          label="Remove grants"
          run={() => fix({ withdraw: grants.map((item) => item.id) })}
          close={() => setDropping(false)}
          after={[]}
        >
          <p>These grants are redundant or expired: no access is lost.</p>
        </Ask>
      )}
    </>
  );
}

function TransferStewardship({
  me,
  people,
  folders,
}: {
  me: Me;
  people: Person[];
  folders: Folder[];
}) {
  const [asking, setAsking] = useState<{
    from: string;
    to: string;
    below?: string;
    keep: boolean;
  } | null>(null);
  const name = (id: string) => people.find((person) => person.id === id)?.display_name ?? "";
  const others = people.filter((person) => person.state === "active");
  const run = async () => {
    if (!asking) return;
    const done = await result(api.POST("/api/v1/transfer-stewardship", { body: asking }));
    told(`Stewardship transferred: ${done.places.join(", ")}.`);
  };
  return (
    <>
      <Form
        label="Transfer stewardship …"
        keep
        submit={async (data) =>
          setAsking({
            from: text(data, "from"),
            to: text(data, "to"),
            below: text(data, "below") || undefined,
            keep: data.get("keep") === "on",
          })
        }
      >
        <p>Everything that a person is a steward of by a direct grant.</p>
        <div className="grid gap-2 sm:grid-cols-2">
          <Choice
            label="From"
            name="from"
            defaultValue={me.id}
            options={people.map((person) => [person.id, person.display_name])}
          />
          <Choice
            label="To"
            name="to"
            defaultValue={others.find((person) => person.id !== me.id)?.id}
            options={others.map((person) => [person.id, person.display_name])}
          />
        </div>
        <Choice
          label="Scope"
          name="below"
          options={[
            ["", "Everything"],
            ...folders.map((folder): [string, string] => [folder.id, folder.path]),
          ]}
        />
        <label>
          <input type="checkbox" name="keep" className="checkbox checkbox-xs" /> The current steward
          stays a steward
        </label>
      </Form>
      {asking && (
        <Ask
          title={`Transfer stewardship from ${name(asking.from)} to ${name(asking.to)}?`}
          label="Transfer stewardship"
          run={run}
          close={() => setAsking(null)}
          after={AFTER}
        >
          <Shifts change={{ transfer_stewardship: asking }} />
        </Ask>
      )}
    </>
  );
}

export function Access({ me }: { me: Me }) {
  const folders = useFolders();
  const people = useQuery({
    queryKey: ["people"],
    queryFn: () => all((page) => api.GET("/api/v1/people", { params: { query: page } })),
  });
  return (
    <Page title="Access">
      <Trouble error={folders.error ?? people.error} />
      {folders.data && people.data && (
        <div className="grid items-start gap-3 xl:grid-cols-[3fr_2fr]">
          <div className="flex flex-col gap-3">
            {me.duties.includes("access") && (
              <Card title="Access issues">
                <OutOfOrder people={people.data} />
              </Card>
            )}
            <Card title="Access file">
              <AsCode folders={folders.data} />
            </Card>
          </div>
          <Card title="Transfer stewardship">
            <TransferStewardship me={me} people={people.data} folders={folders.data} />
          </Card>
        </div>
      )}
    </Page>
  );
}
