// One credential: what it is, its secrets, its history, who reaches it, its jobs and events.

import { useQuery, useQueryClient } from "@tanstack/react-query";
import {
  CalendarClock,
  ChevronDown,
  ChevronUp,
  CopyPlus,
  EllipsisVertical,
  FlaskConical,
  Pencil,
  ShieldHalf,
  Star,
  Trash2,
  UserCog,
  UserLock,
} from "lucide-react";
import { Fragment, type ReactNode, useEffect, useRef, useState } from "react";
import { Link, useLocation } from "wouter";
import {
  type Credential,
  type Kind,
  type KindField,
  type Me,
  all,
  api,
  fileBody,
  ifMatch,
  result,
  wholeList,
} from "../api";
import {
  Act,
  Ask,
  Crumbs,
  Drawer,
  Empty,
  Form,
  KindIcon,
  Menu,
  type MenuAction,
  State,
  type Tab,
  Table,
  Tabs,
  Trouble,
  When,
  told,
} from "../parts";
import { useQueryPart } from "../parts/tabs";
import { useNeighbours } from "./neighbours";
import { AuditRows } from "./audit-rows";
import { CopyForm, EditCredential, MoveIn } from "./credential-forms";
import { MAIN, SEED, fieldsOf } from "./credential-fields";
import { atLeast } from "./access-levels";
import { History } from "./version-history";
import { JobRows } from "./job-rows";
import { rehearse } from "./job-tasks";
import { GateForm, PlanForm } from "./plan-and-gate";
import { Codes, Secret, lend, useTimes } from "./reveal";
import { Explain, Grants, Reach } from "./grants";

/** What may be known of a key or certificate without a reveal. */
const FACTS: Record<string, string> = {
  algorithm: "Algorithm",
  fingerprint: "Fingerprint",
  public_key: "Public key",
  bits: "Bits",
  protected: "Has a passphrase",
  subject: "Subject",
  issuer: "Issuer",
  names: "Names",
  not_before: "Valid from",
  not_after: "Valid until",
  serial: "Serial",
  key: "Key",
  above: "Issuing certificates",
};

function Facts({ it }: { it: Credential }) {
  const shown = Object.entries(it.facts).filter(([field]) => field !== SEED);
  return shown.flatMap(([field, facts]) =>
    Object.keys(FACTS)
      .filter((name) => facts[name])
      .map((name) => (
        <Fragment key={`${field} ${name}`}>
          <dt className="quiet">{FACTS[name]}</dt>
          <dd className="font-mono text-sm break-all">
            {name.startsWith("not_") ? <When at={facts[name]} /> : facts[name]}
          </dd>
        </Fragment>
      )),
  );
}

function Findings({ it }: { it: Credential }) {
  if (it.findings.length === 0) return null;
  return (
    <ul aria-label="Findings" className="flex flex-col gap-1">
      {it.findings.map((finding) => (
        <li key={finding.name}>
          <State word={finding.name} /> {finding.detail && <>{finding.detail}. </>}
          <span className="quiet">{finding.advice}</span>
        </li>
      ))}
    </ul>
  );
}

function size(bytes: number): string {
  if (bytes < 1024) return `${bytes} bytes`;
  return bytes < 1024 * 1024
    ? `${(bytes / 1024).toFixed(1)} KiB`
    : `${(bytes / 1024 / 1024).toFixed(1)} MiB`;
}

function Attachments({ it }: { it: Credential }) {
  const [problem, setProblem] = useState<unknown>(null);
  const [busy, setBusy] = useState("");
  const edits = atLeast(it.level, "edit");
  const client = useRef<HTMLInputElement>(null);
  const add = async (file: File) => {
    setProblem(null);
    setBusy(`Sending ${file.name} …`);
    try {
      await result(
        api.POST("/api/v1/credentials/{credential}/attachments", {
          params: { path: { credential: it.id }, query: { name: file.name } },
          body: fileBody(file),
        }),
      );
      window.dispatchEvent(new CustomEvent("again", { detail: ["credential"] }));
    } catch (error) {
      setProblem(error);
    }
    setBusy("");
    if (client.current) client.current.value = "";
  };
  return (
    <div className="mt-1">
      {it.attachments.length > 0 && (
        <ul aria-label="Attachments">
          {it.attachments.map((each) => (
            <li key={each.id} className="flex flex-wrap items-baseline gap-x-3">
              {atLeast(it.level, "reveal") ? (
                <a
                  className="link"
                  href={`/api/v1/credentials/${it.id}/attachments/${each.id}`}
                  download={each.name}
                >
                  {each.name}
                </a>
              ) : (
                each.name
              )}
              <span className="quiet text-sm">
                {size(each.size)}, <When at={each.made_at} /> by {each.made_by ?? "somebody"}
              </span>
              {edits && (
                <Act
                  label="Remove"
                  look="btn-xs btn-ghost"
                  run={() =>
                    result(
                      api.DELETE("/api/v1/credentials/{credential}/attachments/{attachment}", {
                        params: { path: { credential: it.id, attachment: each.id } },
                      }),
                    )
                  }
                  after={["credential"]}
                  confirm={`Remove ${each.name} permanently?`}
                />
              )}
            </li>
          ))}
        </ul>
      )}
      {edits && (
        <label className="text-sm">
          Add a file:{" "}
          <input
            ref={client}
            type="file"
            className="file-input file-input-sm"
            onChange={(event) => event.target.files?.[0] && void add(event.target.files[0])}
          />
        </label>
      )}
      {busy && <p role="status">{busy}</p>}
      <Trouble error={problem} />
    </div>
  );
}

function Jobs({ it }: { it: Credential }) {
  const jobs = useQuery({
    queryKey: ["jobs", it.id],
    queryFn: () =>
      result(api.GET("/api/v1/jobs", { params: { query: { limit: 20, credential: it.id } } })),
  });
  if (jobs.data?.items.length === 0) return <Empty>No job has run for this account yet.</Empty>;
  return jobs.data ? <JobRows jobs={jobs.data.items} /> : <Trouble error={jobs.error} />;
}

function Events({ it }: { it: Credential }) {
  const events = useQuery({
    queryKey: ["audit", "of", it.id],
    queryFn: () =>
      result(api.GET("/api/v1/audit", { params: { query: { limit: 30, target: it.id } } })),
  });
  return events.data ? <AuditRows events={events.data.items} /> : <Trouble error={events.error} />;
}

function Uses({ it }: { it: Credential }) {
  const uses = useQuery({
    queryKey: ["uses", it.id],
    queryFn: () =>
      wholeList(
        api.GET("/api/v1/credentials/{credential}/uses", {
          params: { path: { credential: it.id } },
        }),
      ),
  });
  if (uses.data?.length === 0) return <Empty>It has not been revealed or used.</Empty>;
  return (
    <>
      <Trouble error={uses.error} />
      <Table label="Who used it" heads={["Person", "Last", "Times"]}>
        {uses.data?.map((use) => (
          <tr key={use.person}>
            <td>{use.person}</td>
            <td>
              <When at={use.last_at} />
            </td>
            <td className="tabular-nums">{use.times}</td>
          </tr>
        ))}
      </Table>
    </>
  );
}

function Asked({ it }: { it: Credential }) {
  const asked = useQuery({
    queryKey: ["requests", "of", it.id],
    queryFn: () =>
      result(api.GET("/api/v1/requests", { params: { query: { limit: 20, credential: it.id } } })),
  });
  if (asked.data?.items.length === 0) return <Empty>There are no requests that you may see.</Empty>;
  return (
    <>
      <Trouble error={asked.error} />
      <Table label="Requests" heads={["State", "Who", "When", "Reason", "Answer"]}>
        {asked.data?.items.map((request) => (
          <tr key={request.id}>
            <td>
              <State word={request.state} />
            </td>
            <td>{request.person_name}</td>
            <td>
              <When at={request.asked_at} />
            </td>
            <td>{request.reason}</td>
            <td>{[request.decided_by, request.comment].filter(Boolean).join(": ")}</td>
          </tr>
        ))}
      </Table>
    </>
  );
}

/** The line that connects to what the credential is for. */
function line(it: Credential): string {
  if (it.device) return it.connection_line ?? "";
  return it.fields.url?.split("\n")[0] ?? it.fields.address ?? "";
}

/** One key each, when nothing is being typed. */
function useKeys(): void {
  useEffect(() => {
    const pressed = (event: KeyboardEvent) => {
      const typing =
        event.target instanceof HTMLElement &&
        event.target.closest("input, textarea, select, dialog, [contenteditable]");
      if (typing || event.ctrlKey || event.metaKey || event.altKey) return;
      document
        .querySelector<HTMLButtonElement>(
          `button[data-key="${CSS.escape(event.key.toLowerCase())}"]:not(:disabled)`,
        )
        ?.click();
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, []);
}

function Copying({ it }: { it: Credential }) {
  const times = useTimes();
  const open = atLeast(it.level, "reveal") && !it.gate;
  const secret = async () => {
    const shown = await result(
      api.POST("/api/v1/credentials/{credential}/reveal", {
        params: { path: { credential: it.id } },
        body: { field: MAIN },
      }),
    );
    await lend("secret", shown.value, times.clipboard);
  };
  const safely = (run: () => Promise<void>) => () =>
    void run().catch((error) => told(error.detail ?? String(error)));
  const button = (key: string, label: string, run: () => Promise<void>) => (
    <button type="button" className="btn btn-xs" data-key={key} onClick={safely(run)}>
      {label} <kbd className="kbd kbd-xs">{key.toUpperCase()}</kbd>
    </button>
  );
  return (
    <div className="mt-2 flex flex-wrap gap-1" aria-label="Copy" role="group">
      {open && it.secret_fields.includes(MAIN) && button("c", "Copy secret", secret)}
      {it.fields.user_name &&
        button("u", "Copy user name", () =>
          lend("user name", it.fields.user_name ?? "", times.clipboard),
        )}
      {line(it) &&
        button("l", "Copy line", () => lend("connection line", line(it), times.clipboard))}
    </div>
  );
}

/** For which devices a credential may be used as the operator, or at a jump host. */
function OperatorDevices({ it, close }: { it: Credential; close: () => void }) {
  const key = ["credentials", it.id, "operator-scope"];
  const scope = useQuery({
    queryKey: key,
    queryFn: () =>
      result(
        api.GET("/api/v1/credentials/{credential}/operator-scope", {
          params: { path: { credential: it.id } },
        }),
      ),
  });
  const devices = useQuery({
    queryKey: ["devices"],
    queryFn: () => all((page) => api.GET("/api/v1/devices", { params: { query: page } })),
  });
  if (!scope.data || !devices.data) return <Trouble error={scope.error ?? devices.error} />;
  const { folders, devices: chosen = [], paths = [] } = scope.data;
  const submit = (data: FormData) => {
    const ticked = data.getAll("device").map(String);
    // Folders, and devices that one may not see, stay as they are.
    const unseen = chosen.filter((id) => !devices.data.some((device) => device.id === id));
    return result(
      api.PUT("/api/v1/credentials/{credential}/operator-scope", {
        params: { path: { credential: it.id } },
        body: {
          folders,
          devices: [...unseen, ...ticked],
        },
      }),
    );
  };
  return (
    <>
      <p className="quiet">
        {paths.length > 0
          ? `Current scope: ${paths.join(", ")}.`
          : "It may not be used as an operator, or at a jump host, for any device."}{" "}
        Each use is in its log.
      </p>
      <Form label="Save" submit={submit} after={["credentials", "devices"]} done={close}>
        {devices.data.map((device) => (
          <label key={device.id} className="flex items-center gap-2">
            <input
              type="checkbox"
              className="checkbox checkbox-sm"
              name="device"
              value={device.id}
              defaultChecked={chosen.includes(device.id)}
            />{" "}
            {device.name}
            <span className="quiet">{device.address}</span>
          </label>
        ))}
      </Form>
    </>
  );
}

/** A term and what it is. */
function Fact({ term, children }: { term: string; children: ReactNode }) {
  return (
    <>
      <dt className="quiet">{term}</dt>
      <dd className="min-w-0">{children}</dd>
    </>
  );
}

function Values({ it, fields }: { it: Credential; fields: KindField[] }) {
  return fields.map((field) => {
    const value = it.fields[field.name];
    if (!value || field.holds === "certificate") return null;
    return (
      <Fact key={field.name} term={field.label}>
        {field.holds === "url" ? (
          value.split("\n").map((address) =>
            /^https?:\/\//i.test(address) ? (
              <a
                key={address}
                className="link block break-all"
                href={address}
                rel="noreferrer noopener"
                target="_blank"
              >
                {address}
              </a>
            ) : (
              <span key={address} className="block break-all">
                {address}
              </span>
            ),
          )
        ) : (
          <span
            className={
              field.holds === "note"
                ? "whitespace-pre-line"
                : field.holds === "text"
                  ? "font-mono break-all"
                  : "break-all"
            }
          >
            {value}
          </span>
        )}
      </Fact>
    );
  });
}

/** What it is, and how it is looked after, beside each other. */
function Overview({
  it,
  kind,
  fields,
}: {
  it: Credential;
  kind: Kind | undefined;
  fields: KindField[];
}) {
  const upkeep = it.upkeep;
  const list = "grid grid-cols-[7rem_1fr] gap-x-4 gap-y-2";
  return (
    <div className="@container">
      <div className="grid gap-x-10 gap-y-5 @2xl:grid-cols-2">
        <section>
          <h3 className="mb-2 font-semibold">Details</h3>
          <dl className={list}>
            {kind && (
              <Fact term="Kind">
                {kind.label}
                {kind.retired && kind.own && " (retired)"}
              </Fact>
            )}
            <Values it={it} fields={fields} />
            <Facts it={it} />
            {it.device_name && (
              <Fact term="Device">
                <Link href={`/devices/${it.device}`} className="link">
                  {it.device_name}
                </Link>
              </Fact>
            )}
            {it.tags.length > 0 && (
              <Fact term="Tags">
                <span className="flex flex-wrap gap-1">
                  {it.tags.map((tag) => (
                    <span key={tag} className="rounded-selector bg-base-200 px-2">
                      {tag}
                    </span>
                  ))}
                </span>
              </Fact>
            )}
            <Fact term="Added">
              <When at={it.created_at} /> by {it.created_by ?? "upkeep"}
            </Fact>
            <Fact term="Changed">
              <When at={it.changed_at} /> by {it.changed_by ?? "upkeep"}
            </Fact>
            <Fact term="Your level">{it.level}</Fact>
          </dl>
        </section>
        {upkeep && (
          <section>
            <h3 className="mb-2 font-semibold">Upkeep</h3>
            <dl className={list}>
              <Fact term="Last check">
                <State word={upkeep.check_outcome} /> <When at={upkeep.checked_at} />
              </Fact>
              <Fact term="Last rotation">
                <When at={upkeep.rotated_at} />
                {upkeep.rotation_outcome && upkeep.rotation_outcome !== "done" && (
                  <>
                    {" "}
                    (last try: <State word={upkeep.rotation_outcome} />)
                  </>
                )}
              </Fact>
              {upkeep.rotation_owed_at && (
                <Fact term="Rotation pending">
                  <State word="owed" /> since it was checked in,{" "}
                  <When at={upkeep.rotation_owed_at} />
                </Fact>
              )}
              <Fact term="Next rotation">
                <When at={upkeep.next_rotation_at} />
              </Fact>
              <Fact term="Next check">
                <When at={upkeep.next_check_at} />
              </Fact>
            </dl>
          </section>
        )}
        <section className="@2xl:col-span-2">
          <h3 className="mb-1 font-semibold">Attachments</h3>
          <Attachments it={it} />
        </section>
      </div>
    </div>
  );
}

type Open = "edit" | "copy" | "personal" | "operator" | "gate" | "plan" | null;

/** What opens over the page, one at a time. */
function Drawers({
  it,
  kind,
  open,
  close,
}: {
  it: Credential;
  kind: Kind | undefined;
  open: Open;
  close: () => void;
}) {
  const drawers: [Open, string, () => ReactNode][] = [
    ["edit", `Edit ${it.name}`, () => kind && <EditCredential it={it} kind={kind} close={close} />],
    ["copy", "Copy into a folder", () => <CopyForm it={it} close={close} />],
    ["personal", "Move to personal folder", () => <MoveIn it={it} close={close} />],
    ["operator", "Operator scope", () => <OperatorDevices it={it} close={close} />],
    ["gate", "Own gate", () => <GateForm credential={it.id} close={close} />],
    ["plan", "Own upkeep plan", () => <PlanForm credential={it.id} close={close} />],
  ];
  return drawers.map(([name, title, show]) => (
    <Drawer key={name} title={title} note={it.name} open={open === name} close={close}>
      {show()}
    </Drawer>
  ));
}

function Neighbours({ it }: { it: Credential }) {
  const [, go] = useLocation();
  const { before, after } = useNeighbours(it.id);
  const button = (to: string | undefined, label: string, key: string, icon: ReactNode) => (
    <button
      type="button"
      className="btn btn-ghost btn-sm btn-square"
      aria-label={label}
      title={`${label} (${key.toUpperCase()})`}
      data-key={key}
      disabled={!to}
      onClick={() => to && go(`/vault/${it.folder}/${to}`)}
    >
      {icon}
    </button>
  );
  return (
    <span className="flex max-sm:hidden">
      {button(after, "Next credential", "j", <ChevronDown className="size-4" aria-hidden="true" />)}
      {button(
        before,
        "Previous credential",
        "k",
        <ChevronUp className="size-4" aria-hidden="true" />,
      )}
    </span>
  );
}

export function Detail({ it, me }: { it: Credential; me: Me }) {
  const [, go] = useLocation();
  const [open, setOpen] = useState<Open>(null);
  const [, showTab] = useQueryPart("tab");
  const [asked, setAsked] = useState<"remove" | "self" | "rehearse" | null>(null);
  const client = useQueryClient();
  useKeys();
  const stewards = atLeast(it.level, "steward");
  const edits = atLeast(it.level, "edit");
  const after = ["jobs", "credential", "upkeep"];
  const kinds = useQuery({
    queryKey: ["kinds"],
    queryFn: () => wholeList(api.GET("/api/v1/kinds")),
  });
  const kind = kinds.data?.find((each) => each.name === it.kind);
  const fields = fieldsOf(kind, it);
  const label = (name: string) => fields.find((field) => field.name === name)?.label ?? name;
  const sees = stewards || me.duties.includes("audit");
  const main = it.secret_fields.includes(MAIN);
  const remove = async () => {
    const removal = await result(
      api.DELETE("/api/v1/credentials/{credential}", {
        params: { path: { credential: it.id }, header: ifMatch(it.revision) },
      }),
    );
    go(`/vault/${it.folder}`);
    told(`${it.name} is in the bin.`, () =>
      result(api.POST("/api/v1/bin/{removal}/restore", { params: { path: { removal } } })),
    );
  };
  const rotate = (body: { method?: "self" }) =>
    result(
      api.POST("/api/v1/credentials/{credential}/rotate", {
        params: { path: { credential: it.id } },
        body,
      }),
    );
  const star = async () => {
    const params = { params: { path: { credential: it.id } } };
    await (it.favourite
      ? result(api.DELETE("/api/v1/credentials/{credential}/favourite", params))
      : result(api.PUT("/api/v1/credentials/{credential}/favourite", params)));
    await client.invalidateQueries({ queryKey: ["credential"] });
    await client.invalidateQueries({ queryKey: ["credentials"] });
  };
  const rare: MenuAction[] = [];
  if (it.device && edits)
    rare.push({
      label: "Rehearse a rotation",
      icon: FlaskConical,
      run: () => setAsked("rehearse"),
    });
  if (edits && it.rotates_itself)
    rare.push({ label: "Rotate as itself", run: () => setAsked("self") });
  if (atLeast(it.level, "reveal"))
    rare.push({ label: "Copy into a folder", icon: CopyPlus, run: () => setOpen("copy") });
  if (stewards && !it.device && main)
    rare.push({ label: "Move to personal folder", icon: UserLock, run: () => setOpen("personal") });
  const sets: MenuAction[] = [];
  if (stewards) {
    sets.push({ label: "Own gate", icon: ShieldHalf, run: () => setOpen("gate") });
    if (it.device)
      sets.push({ label: "Own upkeep plan", icon: CalendarClock, run: () => setOpen("plan") });
    if (main) sets.push({ label: "Operator scope", icon: UserCog, run: () => setOpen("operator") });
  }
  const tabs: Tab[] = [
    { name: "Overview", show: () => <Overview it={it} kind={kind} fields={fields} /> },
  ];
  if (atLeast(it.level, "reveal"))
    tabs.push({ name: "History", show: () => <History it={it} label={label} /> });
  tabs.push({
    name: "Access",
    show: () => (
      <div className="flex flex-col gap-4">
        <Explain credential={it.id} self={me.id} />
        {sees && <Reach credential={it.id} />}
        {stewards && <Grants credential={it.id} />}
      </div>
    ),
  });
  if (it.device) tabs.push({ name: "Upkeep", show: () => <Jobs it={it} /> });
  if (it.gate) tabs.push({ name: "Requests", show: () => <Asked it={it} /> });
  if (sees)
    tabs.push({
      name: "Activity",
      show: () => (
        <div className="flex flex-col gap-4">
          <Uses it={it} />
          <Events it={it} />
        </div>
      ),
    });
  return (
    <article className="flex flex-col gap-3" aria-labelledby="credential-name">
      <header className="flex flex-wrap items-start justify-between gap-2">
        <div className="min-w-0">
          <Crumbs crumbs={[[it.place.slice(1).replaceAll("/", " / "), `/vault/${it.folder}`]]} />
          <div className="flex flex-wrap items-center gap-2">
            <span className="grid size-8 shrink-0 place-items-center rounded-field bg-secondary text-primary">
              <KindIcon kind={it.kind} />
            </span>
            <h2 id="credential-name" className="text-xl font-semibold">
              {it.name}
            </h2>
            <button
              type="button"
              className="btn btn-ghost btn-xs btn-square"
              aria-pressed={it.favourite}
              aria-label={it.favourite ? "Remove from favourites" : "Add to favourites"}
              title={it.favourite ? "Remove from favourites" : "Add to favourites"}
              onClick={() => void star().catch((error) => told(error.detail ?? String(error)))}
            >
              <Star
                className={`size-4 ${it.favourite ? "fill-current text-accent" : ""}`}
                aria-hidden="true"
              />
            </button>
            {it.upkeep && <State word={it.upkeep.check_outcome} />}
            {it.findings[0] && it.findings[0].name !== "out-of-sync" && (
              <State word={it.findings[0].name} />
            )}
          </div>
        </div>
        <div className="flex flex-wrap items-center gap-2">
          {it.device && atLeast(it.level, "use") && (
            <Act
              label="Check now"
              run={() =>
                result(
                  api.POST("/api/v1/credentials/{credential}/check", {
                    params: { path: { credential: it.id } },
                  }),
                )
              }
              after={after}
            />
          )}
          {it.device && edits && (
            <Act
              label="Rotate now"
              run={() => rotate({})}
              after={after}
              confirm={`Rotate ${it.name}? The account gets a new generated password, on the device and in the vault.`}
            />
          )}
          {edits && (
            <button type="button" className="btn btn-sm" onClick={() => setOpen("edit")}>
              <Pencil className="size-4" aria-hidden="true" />
              Edit
            </button>
          )}
          <Neighbours it={it} />
          {(rare.length > 0 || sets.length > 0) && (
            <Menu
              label="More actions"
              trigger={<EllipsisVertical className="size-4" aria-hidden="true" />}
              groups={[
                rare,
                sets,
                stewards
                  ? [{ label: "Remove", icon: Trash2, danger: true, run: () => setAsked("remove") }]
                  : [],
              ]}
            />
          )}
        </div>
      </header>
      <section
        aria-label="Secret"
        className="rounded-box border border-base-300 bg-base-200 px-4 py-3"
      >
        <Secret it={it} me={me} label={label} />
        {it.secret_fields.includes(SEED) && atLeast(it.level, "use") && <Codes it={it} />}
        <Copying it={it} />
      </section>
      {it.findings.length > 0 && <Findings it={it} />}
      <Drawers it={it} kind={kind} open={open} close={() => setOpen(null)} />
      {asked === "remove" && (
        <Ask
          title={`Remove ${it.name}?`}
          label="Remove"
          danger
          run={remove}
          close={() => setAsked(null)}
          after={["credentials", "bin"]}
        >
          <p>It goes to the bin, and can be restored from there.</p>
        </Ask>
      )}
      {asked === "rehearse" && (
        <Ask
          title={`Rehearse a rotation of ${it.name}?`}
          label="Rehearse"
          run={async () => {
            await rehearse(it.id)();
            showTab("upkeep");
          }}
          close={() => setAsked(null)}
          after={after}
        >
          <p>
            The service signs in on the device and goes as far as a rotation can without changing
            anything. What the device says stays with the job, for the stewards of the device.
          </p>
        </Ask>
      )}
      {asked === "self" && (
        <Ask
          title={`Rotate ${it.name} as itself?`}
          label="Rotate"
          run={() => rotate({ method: "self" })}
          close={() => setAsked(null)}
          after={after}
        >
          <p>The account changes its own password, without the operator.</p>
        </Ask>
      )}
      <Tabs label={it.name} tabs={tabs} />
    </article>
  );
}
