// The parts with their states, on one page: `npm run dev`, then /design. Not in what is built.

import { Pencil } from "lucide-react";
import { useState } from "react";
import { Problem } from "./api";
import {
  Act,
  Ago,
  Ask,
  Card,
  Choice,
  CodeText,
  Count,
  CredentialLink,
  DeviceLink,
  Drawer,
  DrawerButton,
  Empty,
  Field,
  FolderLink,
  Form,
  KindIcon,
  Left,
  Lines,
  Menu,
  Page,
  PersonLink,
  Progress,
  SecretText,
  Skeleton,
  State,
  Steps,
  Table,
  Tabs,
  Trouble,
  When,
  told,
} from "./parts";
import { type Column, DataTable } from "./parts/data-table";

const STATES = [
  "in-sync",
  "out-of-sync",
  "in-doubt",
  "unreachable",
  "locked-out",
  "waiting",
  "due",
  "owed",
  "suspended",
  "queued",
  "running",
  "invited",
  "left",
  "leaked",
  "weak",
  "reused",
  "expired",
  "expires-soon",
  "old",
  "breaks-policy",
  "confirmed",
  "failed",
  "refused",
];
const KINDS = [
  "login",
  "device-admin",
  "ssh-key",
  "api-token",
  "database-account",
  "shared-key",
  "licence",
  "certificate",
  "confidential-note",
  "other",
];
interface Row {
  id: number;
  name: string;
  state: string;
}
const ROWS: Row[] = Array.from({ length: 400 }, (_, id) => ({
  id,
  name: `pump ${id}`,
  state: STATES[id % 4] ?? "",
}));
const COLUMNS: Column<Row>[] = [
  { name: "name", head: "Name", value: (row) => row.name },
  {
    name: "state",
    head: "State",
    value: (row) => row.state,
    cell: (row) => <State word={row.state} />,
    choices: true,
  },
  { name: "number", head: "Number", value: (row) => row.id, right: true },
];
const wait = () => new Promise((done) => setTimeout(done, 1500));
const fail = () =>
  Promise.reject(
    new Problem("conflict", 409, "Somebody else changed it.", "Load it again and repeat it.", {}),
  );
const ago = (minutes: number) => new Date(Date.now() - minutes * 60_000).toISOString();

export function Design() {
  const [open, setOpen] = useState<"drawer" | "question" | null>(null);
  return (
    <Page title="Parts" note="Every part with its states.">
      <Card title="Buttons">
        <div className="flex flex-wrap gap-2">
          <Act label="Primary" look="btn-sm btn-primary" run={wait} />
          <Act label="Plain" run={wait} />
          <Act label="Ghost" look="btn-sm btn-ghost" run={wait} />
          <Act label="Fails" run={fail} />
          <Act label="Asks" run={wait} confirm="Rotate duty? It gets a new password." />
          <Act label="Danger" danger run={wait} confirm="Remove duty? It goes to the bin." />
          <button type="button" className="btn btn-sm" disabled>
            Disabled
          </button>
          <DrawerButton label="Drawer">{() => <p>What is edited.</p>}</DrawerButton>
          <Menu
            label="A menu"
            trigger={<Pencil className="size-4" aria-hidden="true" />}
            groups={[
              [{ label: "Toast", run: () => told("Done.") }],
              [{ label: "Toast with undo", run: () => told("Removed.", wait) }],
            ]}
          />
          <button type="button" className="btn btn-sm" onClick={() => setOpen("question")}>
            Question
          </button>
        </div>
      </Card>
      <Card title="States" count={STATES.length}>
        <div className="flex flex-wrap gap-4">
          {STATES.map((word) => (
            <State key={word} word={word} />
          ))}
          <State word={null} />
          <Count>7</Count>
        </div>
      </Card>
      <Card title="Kinds and times">
        <div className="flex flex-wrap gap-4">
          {KINDS.map((kind) => (
            <span key={kind} className="flex gap-1">
              <KindIcon kind={kind} /> {kind}
            </span>
          ))}
          <When at={ago(0)} />
          <When at={ago(90_000)} />
          <Ago at={ago(3)} />
          <Ago at={ago(4000)} />
          <Left until={ago(-40)} />
        </div>
      </Card>
      <Card title="Secrets, codes, links, progress, steps">
        <div className="flex flex-col gap-3">
          <SecretText value="Winter-tide-O01l" />
          <SecretText value="Winter-tide-O01l" other="Winter-tide-001I" />
          <CodeText digits="482913" />
          <p className="flex flex-wrap gap-4">
            <PersonLink id="-" name="Marek Tull" />
            <FolderLink id="-" path="/Pumping/North ridge" />
            <CredentialLink id="-" path="/Pumping/North ridge/duty" />
            <DeviceLink id="-" name="telemetry" />
          </p>
          <p className="flex gap-4">
            <Progress label="Rows imported" value={30} of={100} />
            <Progress label="Under way" value={0} of={undefined} />
          </p>
          <Steps
            steps={[
              { done: true, what: "Add the people", label: "Add people", to: "/people" },
              { done: false, what: "Add the first device", label: "Devices", to: "/devices" },
            ]}
          />
        </div>
      </Card>
      <Card title="Form">
        <Form label="Save" submit={fail}>
          <Field
            label="Name"
            name="name"
            hint="What it is called."
            required
            check={(value) => (value.includes("/") ? "A slash separates folders." : "")}
          />
          <Lines label="Note" name="note" />
          <Choice label="Level" name="level" options={[["use", "use"]]} />
        </Form>
      </Card>
      <Card title="Nothing, not yet, not possible">
        <Empty action={<Act label="Add" run={wait} />}>There is nothing here yet.</Empty>
        <Skeleton />
        <Trouble error={new Error("It did not work.")} retry={() => undefined} />
      </Card>
      <Card title="Tables and tabs">
        <Tabs
          label="Tables"
          part="design"
          tabs={[
            {
              name: "Data table",
              count: ROWS.length,
              show: () => (
                <DataTable
                  label="Pumps"
                  rows={ROWS}
                  columns={COLUMNS}
                  id={(row) => String(row.id)}
                  file="pumps.csv"
                  empty={<Empty>None.</Empty>}
                  bulk={(rows) => <Act label={`Check ${rows.length}`} run={wait} />}
                />
              ),
            },
            {
              name: "Small table",
              show: () => (
                <Table label="Two" heads={["Name", "State"]}>
                  <tr>
                    <td>pump 1</td>
                    <td>
                      <State word="in-sync" />
                    </td>
                  </tr>
                </Table>
              ),
            },
          ]}
        />
      </Card>
      <Drawer title="Drawer" open={open === "drawer"} close={() => setOpen(null)}>
        <p>What is edited.</p>
      </Drawer>
      {open === "question" && (
        <Ask title="Move 2 credentials?" label="Move" run={wait} close={() => setOpen(null)}>
          <p>Nobody gets more access.</p>
        </Ask>
      )}
    </Page>
  );
}
