// Dialogues and recipes: how to talk to devices that have only a command line or an HTTP API. The file, what is wrong with it
// while it is typed, and a rehearsal beside it.

import { useQuery } from "@tanstack/react-query";
import { CircleCheck, CircleX, Plus, TriangleAlert } from "lucide-react";
import { useRef, useState } from "react";
import { Link, useLocation } from "wouter";
import {
  type Dialogue,
  type DialogueFinding,
  type DialogueRehearsal,
  type Me,
  api,
  result,
  wholeList,
} from "../api";
import {
  Act,
  Card,
  Choice,
  Empty,
  Field,
  Form,
  Lines,
  Page,
  Skeleton,
  Trouble,
  When,
  text,
  told,
} from "../parts";
import { type Column, DataTable } from "../parts/data-table";
import { useSettled } from "../parts/settled";

/** What a dialogue can be for, in words. */
const PURPOSES: Record<Dialogue["purposes"][number], string> = {
  check: "check",
  operator: "change by the operator",
  account: "change by the account",
  list: "list of accounts",
};

const FIRST = `dialogue = 1
title = "A switch"
about = "Which devices, from which version on, and what the operator may do there."

[begin]
check = "signed-in"
operator = "ready"

[step.signed-in]
hear = [{ prompt = '[>#]$', done = true }]

[step.ready]
hear = [{ prompt = '#$', next = "choose" }]

[step.choose]
say = "user {account} password"
hear = [{ text = "new password:", next = "new" }]

[step.new]
say = "{new}"
hidden = true
changes = true
hear = [
    { text = "password changed", done = true },
    { line = '^% .*', refused = true },
]
`;

export function useDialogues(enabled = true) {
  return useQuery({
    queryKey: ["dialogues"],
    queryFn: () => wholeList(api.GET("/api/v1/dialogues")),
    enabled,
  });
}

const COLUMNS: Column<Dialogue>[] = [
  {
    name: "name",
    head: "Dialogue",
    value: (dialogue) => dialogue.name,
    cell: (dialogue) => (
      <Link href={`/dialogues/${dialogue.id}`} className="group">
        <span className="font-semibold group-hover:underline">{dialogue.name}</span>
        <span className="quiet block">{dialogue.title}</span>
      </Link>
    ),
  },
  {
    name: "kind",
    head: "Kind",
    value: (dialogue) => dialogue.kind ?? "",
    choices: true,
  },
  { name: "version", head: "Version", value: (dialogue) => dialogue.number, right: true },
  {
    name: "for",
    head: "For",
    value: (dialogue) => dialogue.purposes.map((purpose) => PURPOSES[purpose]).join(", "),
  },
  { name: "devices", head: "Devices", value: (dialogue) => dialogue.devices, right: true },
  {
    name: "added",
    head: "Added",
    value: (dialogue) => dialogue.added_at,
    cell: (dialogue) => (
      <>
        <When at={dialogue.added_at} />
        {dialogue.added_by_name && <span className="quiet"> by {dialogue.added_by_name}</span>}
      </>
    ),
  },
];

export function Dialogues({ me }: { me: Me }) {
  const dialogues = useDialogues();
  const may = me.duties.includes("policy");
  const add = (
    <Link href="/dialogues/new" className="btn btn-sm btn-primary">
      <Plus className="size-4" aria-hidden="true" />
      Add one
    </Link>
  );
  return (
    <Page
      title="Dialogues and recipes"
      note="How to talk to devices that have only a command line or an HTTP API. Devices keep the version that they were given."
      actions={may && add}
    >
      <DataTable
        label="Dialogues"
        columns={COLUMNS}
        id={(dialogue) => dialogue.id}
        query={dialogues}
        file="dialogues.csv"
        empty={
          <Empty action={may && add}>
            There are none yet. A dialogue is a small file that says what to type at a device’s
            prompt, a recipe one that says which HTTP requests to make, and what the answers mean.
          </Empty>
        }
      />
    </Page>
  );
}

/** What is wrong with the file; a press leads to the line. */
function Findings({ found, go }: { found: DialogueFinding[]; go: (line: number) => void }) {
  if (found.length === 0)
    return (
      <p className="flex items-center gap-2 text-success">
        <CircleCheck className="size-4" aria-hidden="true" />
        Nothing is wrong with it.
      </p>
    );
  return (
    <ul className="flex flex-col gap-1.5">
      {found.map((finding, at) => (
        <li key={`${at} ${finding.message}`} className="flex items-start gap-2">
          {finding.severity === "error" ? (
            <CircleX className="mt-0.5 size-4 shrink-0 text-error" aria-label="Error" />
          ) : (
            <TriangleAlert className="mt-0.5 size-4 shrink-0 text-warning" aria-label="Warning" />
          )}
          <span>
            {finding.line !== null && (
              <button type="button" className="link mr-1" onClick={() => go(finding.line ?? 1)}>
                Line {finding.line}
              </button>
            )}
            {finding.step && <span className="font-mono">{finding.step}: </span>}
            {finding.message}
          </span>
        </li>
      ))}
    </ul>
  );
}

/** The dialogue against a transcript, instead of a device. */
function Rehearse({ file, purposes }: { file: () => string; purposes: string[] }) {
  const [purpose, setPurpose] = useState("operator");
  const [account, setAccount] = useState("duty");
  const [transcript, setTranscript] = useState("");
  const [came, setCame] = useState<DialogueRehearsal>();
  return (
    <Card title="Rehearsal">
      <div className="flex flex-col gap-3 py-2">
        <p className="quiet">
          Nothing is sent to a device. In a transcript &lt; begins what the device wrote, and &gt;
          what was typed, or a request; the answer to a request begins with its status. Secrets are
          written as {"{new}"}, {"{current}"}, {"{operator_password}"} and {"{enable_password}"},
          fields as their names.
        </p>
        <div className="grid grid-cols-2 gap-2">
          <Choice
            label="For"
            name="purpose"
            value={purpose}
            onChange={(event) => setPurpose(event.target.value)}
            options={purposes.map((each): [string, string] => [
              each,
              PURPOSES[each as Dialogue["purposes"][number]],
            ])}
          />
          <Field
            label="Account"
            name="account"
            value={account}
            onChange={(event) => setAccount(event.target.value)}
          />
        </div>
        <Lines
          label="Transcript"
          name="transcript"
          rows={10}
          className="textarea textarea-sm w-full font-mono"
          placeholder={"< ridge-3>\n> enable\n< Password:\n> {operator_password}"}
          value={transcript}
          onChange={(event) => setTranscript(event.target.value)}
        />
        <Act
          label="Rehearse"
          run={async () =>
            setCame(
              await result(
                api.POST("/api/v1/dialogues/rehearse", {
                  body: {
                    text: file(),
                    purpose: purpose as Dialogue["purposes"][number],
                    account,
                    transcript,
                  },
                }),
              ),
            )
          }
        />
        {came && (
          <div role="status" className="flex flex-col gap-2">
            <p
              className={`flex items-center gap-2 font-semibold ${came.done ? "text-success" : "text-error"}`}
            >
              {came.done ? (
                <CircleCheck className="size-4 shrink-0" aria-hidden="true" />
              ) : (
                <CircleX className="size-4 shrink-0" aria-hidden="true" />
              )}
              {came.done ? "The conversation ends in success." : came.result}
            </p>
            <Conversation turns={came.turns} />
            {came.accounts.length > 0 && (
              <>
                <h3 className="font-semibold">Accounts that it lists</h3>
                <ul>
                  {came.accounts.map((each) => (
                    <li key={each.login}>
                      <span className="font-mono">{each.login}</span>
                      {each.privileged && `, privileged: ${each.privileged}`}
                      {each.locked && ", locked"}
                      {!each.signs_in && ", off"}
                    </li>
                  ))}
                </ul>
              </>
            )}
          </div>
        )}
      </div>
    </Card>
  );
}

/** What was said and heard, without secrets. */
function Conversation({ turns }: { turns: DialogueRehearsal["turns"] }) {
  return (
    <ol className="flex flex-col gap-1 rounded-box border border-base-300 bg-base-200 p-3 font-mono text-[0.8125rem]">
      {turns.map((turn, at) => (
        <li
          key={`${at} ${turn.text}`}
          className={`relative break-words whitespace-pre-wrap ${turn.typed ? "font-semibold text-primary" : ""}`}
        >
          <span className="sr-only">{turn.typed ? "Typed: " : "Device: "}</span>
          {turn.text.trim()}
        </li>
      ))}
    </ol>
  );
}

function Editor({
  me,
  name,
  version,
  first,
}: {
  me: Me;
  /** Nothing for a new one. */
  name: string | undefined;
  version: number;
  first: string;
}) {
  const [, go] = useLocation();
  const [file, setFile] = useState(first);
  const box = useRef<HTMLDivElement>(null);
  const settled = useSettled(file);
  const found = useQuery({
    queryKey: ["dialogue findings", settled],
    queryFn: () => wholeList(api.POST("/api/v1/dialogues/inspect", { body: { text: settled } })),
  });
  const may = me.duties.includes("policy");
  const goTo = (line: number) => {
    const area = box.current?.querySelector<HTMLTextAreaElement>("textarea[name=text]");
    if (!area) return;
    const lines = area.value.split("\n");
    const from = lines.slice(0, line - 1).join("\n").length + (line > 1 ? 1 : 0);
    area.focus();
    area.setSelectionRange(from, from + (lines[line - 1]?.length ?? 0));
    area.scrollTop = ((line - 4) / lines.length) * area.scrollHeight;
  };
  return (
    <div ref={box} className="grid gap-6 xl:grid-cols-[3fr_2fr]">
      <div className="flex min-w-0 flex-col gap-4">
        <Form
          label={name ? `Save as version ${version + 1}` : "Add it"}
          after={["dialogues"]}
          submit={async (data) => {
            const added = await result(
              api.POST("/api/v1/dialogues", {
                body: { name: name ?? text(data, "name"), text: file },
              }),
            );
            told(
              name
                ? `Version ${added.number} of ${added.name} is saved. Devices keep the version that they have.`
                : `${added.name} is added.`,
            );
            go(`/dialogues/${added.id}`);
          }}
        >
          {!name && <Field label="Name" name="name" required placeholder="ridge-switch" />}
          <Lines
            label="File"
            name="text"
            rows={30}
            spellCheck={false}
            className="textarea textarea-sm w-full font-mono"
            value={file}
            readOnly={!may}
            onChange={(event) => setFile(event.target.value)}
          />
        </Form>
      </div>
      <div className="flex min-w-0 flex-col gap-4">
        <Card title="Findings" count={found.data?.length || undefined}>
          <div className="py-2">
            {found.error ? (
              <Trouble error={found.error} />
            ) : found.data ? (
              <Findings found={found.data} go={goTo} />
            ) : (
              <Skeleton rows={2} />
            )}
          </div>
        </Card>
        <Rehearse file={() => file} purposes={Object.keys(PURPOSES)} />
      </div>
    </div>
  );
}

/** How many devices use a version, as a sentence. */
const used = (devices: number): string =>
  devices === 0
    ? "No device uses it."
    : devices === 1
      ? "One device uses it."
      : `${devices} devices use it.`;

export function OneDialogue({ me, id }: { me: Me; id: string }) {
  const isNew = id === "new";
  const read = useQuery({
    queryKey: ["dialogues", id],
    queryFn: () =>
      result(api.GET("/api/v1/dialogues/{dialogue}", { params: { path: { dialogue: id } } })),
    enabled: !isNew,
  });
  const dialogue = read.data;
  return (
    <Page
      title={isNew ? "Add a dialogue or recipe" : (dialogue?.name ?? "Dialogue")}
      crumbs={[["Dialogues and recipes", "/dialogues"]]}
      note={
        dialogue &&
        `Version ${dialogue.number}${dialogue.newest ? "" : ", not the newest"}. ${dialogue.title}. ${used(dialogue.devices)}`
      }
    >
      {isNew ? (
        <Editor me={me} name={undefined} version={0} first={FIRST} />
      ) : dialogue ? (
        <Editor
          key={dialogue.id}
          me={me}
          name={dialogue.name}
          version={dialogue.number}
          first={dialogue.text}
        />
      ) : read.error ? (
        <Trouble error={read.error} />
      ) : (
        <Skeleton rows={8} />
      )}
    </Page>
  );
}
