// One credential: what it is, its secrets, its history, who reaches it, its jobs and events.

import { useQuery } from "@tanstack/react-query";
import { Fragment, useEffect, useRef, useState } from "react";
import { useLocation } from "wouter";
import { type Credential, type Me, api, result, wholeList, all, ifMatch, fileBody } from "../api";
import { Act, Card, Empty, Fold, Form, State, Table, Trouble, When, told } from "../components";
import { AuditRows } from "./audit-log";
import { CopyForm, EditCredential, MoveIn } from "./credential-forms";
import { MAIN, SEED, fieldsOf } from "./credential-fields";
import { atLeast } from "./access-levels";
import { History } from "./version-history";
import { JobRows } from "./upkeep";
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
    <ul aria-label="Findings" className="my-2 flex flex-col gap-1 border-l-4 border-warning pl-3">
      {it.findings.map((finding) => (
        <li key={finding.name}>
          <State word={finding.name} />
          {finding.detail && <>: {finding.detail}</>}.{" "}
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
async function line(it: Credential): Promise<string> {
  const user = it.fields.user_name ?? "";
  if (it.device) {
    const device = await result(
      api.GET("/api/v1/devices/{device}", { params: { path: { device: it.device } } }),
    );
    return `ssh -p ${device.port} ${user}@${device.address}`;
  }
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
    <div className="flex flex-wrap gap-1" aria-label="Copy" role="group">
      {open && it.secret_fields.includes(MAIN) && button("c", "Copy secret", secret)}
      {it.fields.user_name &&
        button("u", "Copy user name", () =>
          lend("user name", it.fields.user_name ?? "", times.clipboard),
        )}
      {(it.device || it.fields.url || it.fields.address) &&
        button("l", "Copy line", async () =>
          lend("connection line", await line(it), times.clipboard),
        )}
    </div>
  );
}

const TABS = ["History", "Access", "Uses", "Requests", "Jobs", "Events"] as const;

/** Where a credential may be used as the operator. */
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
          : "It may not be used as an operator on any device."}{" "}
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

export function Detail({ it, me }: { it: Credential; me: Me }) {
  const [, go] = useLocation();
  const [tab, setTab] = useState<(typeof TABS)[number] | null>(null);
  useKeys();
  const stewards = atLeast(it.level, "steward");
  const after = ["jobs", "credential", "upkeep"];
  const upkeep = it.upkeep;
  const kinds = useQuery({
    queryKey: ["kinds"],
    queryFn: () => wholeList(api.GET("/api/v1/kinds")),
  });
  const kind = kinds.data?.find((each) => each.name === it.kind);
  const fields = fieldsOf(kind, it);
  const label = (name: string) => fields.find((field) => field.name === name)?.label ?? name;
  const sees = stewards || me.duties.includes("audit");
  const tabs = TABS.filter(
    (each) =>
      (each !== "History" || atLeast(it.level, "reveal")) &&
      (each !== "Jobs" || it.device) &&
      (each !== "Requests" || it.gate) &&
      ((each !== "Events" && each !== "Uses") || sees),
  );
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
  const favourite = it.favourite
    ? () =>
        result(
          api.DELETE("/api/v1/credentials/{credential}/favourite", {
            params: { path: { credential: it.id } },
          }),
        )
    : () =>
        result(
          api.PUT("/api/v1/credentials/{credential}/favourite", {
            params: { path: { credential: it.id } },
          }),
        );
  return (
    <Card
      title={it.name}
      actions={
        <span className="flex items-baseline gap-2">
          <span className="quiet">
            {it.place}, your level: {it.level}
          </span>
          <Act
            label={it.favourite ? "★ Favourite" : "☆ Add to favourites"}
            look="btn-xs btn-ghost"
            run={favourite}
            after={["credential", "credentials"]}
          />
        </span>
      }
    >
      <Findings it={it} />
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-0.5">
        {kind && (
          <>
            <dt className="quiet">Kind</dt>
            <dd>
              {kind.label}
              {kind.retired && kind.own && " (retired)"}
            </dd>
          </>
        )}
        {fields.map((field) => {
          const value = it.fields[field.name];
          if (!value || field.holds === "certificate") return null;
          return (
            <Fragment key={field.name}>
              <dt className="quiet">{field.label}</dt>
              <dd className={field.holds === "note" ? "whitespace-pre-line" : "break-all"}>
                {field.holds === "url" ? (
                  value.split("\n").map((address) =>
                    /^https?:\/\//i.test(address) ? (
                      <a
                        key={address}
                        className="link block"
                        href={address}
                        rel="noreferrer noopener"
                        target="_blank"
                      >
                        {address}
                      </a>
                    ) : (
                      <span key={address} className="block">
                        {address}
                      </span>
                    ),
                  )
                ) : (
                  <span className={field.holds === "text" ? "font-mono" : ""}>{value}</span>
                )}
              </dd>
            </Fragment>
          );
        })}
        <Facts it={it} />
        {it.tags.length > 0 && (
          <>
            <dt className="quiet">Tags</dt>
            <dd className="flex flex-wrap gap-1">
              {it.tags.map((tag) => (
                <span key={tag} className="rounded bg-base-300 px-2">
                  {tag}
                </span>
              ))}
            </dd>
          </>
        )}
        {it.device_name && (
          <>
            <dt className="quiet">Device</dt>
            <dd>{it.device_name}</dd>
          </>
        )}
        {upkeep && (
          <>
            <dt className="quiet">Last check</dt>
            <dd>
              <State word={upkeep.check_outcome} /> <When at={upkeep.checked_at} />
            </dd>
            <dt className="quiet">Rotated</dt>
            <dd>
              <When at={upkeep.rotated_at} />
              {upkeep.rotation_outcome && upkeep.rotation_outcome !== "done" && (
                <>
                  {" "}
                  (last try: <State word={upkeep.rotation_outcome} />)
                </>
              )}
            </dd>
            {upkeep.rotation_owed_at && (
              <>
                <dt className="quiet">Rotation pending</dt>
                <dd>
                  <State word="owed" /> since it was checked in,{" "}
                  <When at={upkeep.rotation_owed_at} />
                </dd>
              </>
            )}
            <dt className="quiet">Next rotation</dt>
            <dd>
              <When at={upkeep.next_rotation_at} />
            </dd>
          </>
        )}
        <dt className="quiet">Added</dt>
        <dd>
          <When at={it.created_at} /> by {it.created_by ?? "upkeep"}; changed{" "}
          <When at={it.changed_at} /> by {it.changed_by ?? "upkeep"}
        </dd>
      </dl>
      <Secret it={it} me={me} label={label} />
      {it.secret_fields.includes(SEED) && atLeast(it.level, "use") && <Codes it={it} />}
      <Copying it={it} />
      <Attachments it={it} />
      {it.device && (
        <div className="mt-2 flex flex-wrap gap-2">
          {atLeast(it.level, "use") && (
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
          {atLeast(it.level, "edit") && (
            <Act
              label="Rotate now"
              run={() =>
                result(
                  api.POST("/api/v1/credentials/{credential}/rotate", {
                    params: { path: { credential: it.id } },
                    body: {},
                  }),
                )
              }
              after={after}
              confirm="Give the account a new generated password, on the device and in the vault?"
            />
          )}
          {atLeast(it.level, "edit") && (
            <Act
              label="Rotate as itself"
              look="btn-sm btn-ghost"
              run={() =>
                result(
                  api.POST("/api/v1/credentials/{credential}/rotate", {
                    params: { path: { credential: it.id } },
                    body: { method: "self" },
                  }),
                )
              }
              after={after}
              confirm="Change the password as the account itself, without the operator?"
            />
          )}
        </div>
      )}
      {atLeast(it.level, "edit") && (
        <Fold label="Edit">
          {(close) => kind && <EditCredential it={it} kind={kind} close={close} />}
        </Fold>
      )}
      {atLeast(it.level, "reveal") && (
        <Fold label="Copy into a folder">{(close) => <CopyForm it={it} close={close} />}</Fold>
      )}
      {stewards && (
        <>
          {!it.device && it.secret_fields.includes(MAIN) && (
            <Fold label="Move to personal folder">
              {(close) => <MoveIn it={it} close={close} />}
            </Fold>
          )}
          {it.secret_fields.includes(MAIN) && (
            <Fold label="Operator scope">
              {(close) => <OperatorDevices it={it} close={close} />}
            </Fold>
          )}
          <Fold label="Own gate">{(close) => <GateForm credential={it.id} close={close} />}</Fold>
          {it.device && (
            <Fold label="Own upkeep plan">
              {(close) => <PlanForm credential={it.id} close={close} />}
            </Fold>
          )}
          <Act
            label="Remove"
            look="btn-sm btn-ghost"
            run={remove}
            after={["credentials", "bin"]}
            confirm={`Move ${it.name} to the bin? It can be restored from there.`}
          />
        </>
      )}
      <div
        role="tablist"
        aria-label="More"
        className="mt-2 flex gap-1 border-t border-base-300 pt-2"
      >
        {tabs.map((each) => (
          <button
            key={each}
            type="button"
            role="tab"
            aria-selected={tab === each}
            className={`btn btn-sm ${tab === each ? "btn-primary" : "btn-ghost"}`}
            onClick={() => setTab(tab === each ? null : each)}
          >
            {each}
          </button>
        ))}
      </div>
      {tab === "History" && <History it={it} label={label} />}
      {tab === "Uses" && <Uses it={it} />}
      {tab === "Requests" && <Asked it={it} />}
      {tab === "Access" && (
        <div className="flex flex-col gap-3">
          <Explain credential={it.id} self={me.id} />
          {(stewards || me.duties.includes("audit")) && <Reach credential={it.id} />}
          {stewards && <Grants credential={it.id} />}
        </div>
      )}
      {tab === "Jobs" && <Jobs it={it} />}
      {tab === "Events" && <Events it={it} />}
    </Card>
  );
}
