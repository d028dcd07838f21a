// One credential: what it is, its secret, its history, who reaches it, its jobs and events.

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useEffect, useState } from "react";
import { type AuditEvent, type Checkout, type Credential, type Device, type Folder, type Job, type Kind, type Me, type OneTimeCode, type Page, type Request, type Revealed, type Version, all, api } from "../api";
import { Act, Card, Choice, Empty, Field, Fold, Form, Left, State, Table, Trouble, When, text } from "../parts";
import { AuditRows } from "./audit";
import { KindFields, MAIN, SEED, collect } from "./fields";
import { atLeast } from "./folder";
import { Explain, GateForm, Grants, PlanForm } from "./rules";
import { JobRows } from "./upkeep";

/** A secret hides itself again after so many seconds. */
const SHOWN_FOR = 30;
/** The clipboard is cleared after so many seconds. */
const COPIED_FOR = 30;

const SPELT: Record<string, string> = { "0": "zero", O: "capital O", o: "small o", "1": "one", l: "small L", I: "capital i", i: "small i", "-": "hyphen", _: "underscore", ".": "full stop", "+": "plus", "=": "equals", "#": "hash", "@": "at", "%": "per cent", " ": "space" };

function spell(value: string): string {
  return [...value].map((letter) => SPELT[letter] ?? (/[A-Z]/.test(letter) ? `capital ${letter}` : letter)).join(", ");
}

function Shown({ shown, hide }: { shown: Revealed; hide: () => void }) {
  const [left, setLeft] = useState(SHOWN_FOR);
  const [spelt, setSpelt] = useState(false);
  const [copied, setCopied] = useState("");
  useEffect(() => {
    const timer = setInterval(() => setLeft((before) => before - 1), 1000);
    return () => clearInterval(timer);
  }, []);
  useEffect(() => {
    if (left <= 0) hide();
  }, [left, hide]);
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(shown.value);
      setCopied(`Copied; the clipboard is cleared in ${COPIED_FOR} seconds.`);
      setTimeout(() => void navigator.clipboard.writeText("").catch(() => undefined), COPIED_FOR * 1000);
    } catch {
      setCopied("This browser does not let the console use the clipboard.");
    }
  };
  const tone = (letter: string) => (/\d/.test(letter) ? "text-info" : /[A-Za-z]/.test(letter) ? "" : "text-warning");
  return (
    <div className="my-2 rounded-box border border-base-300 bg-base-200 p-3">
      <output aria-label="The secret" className="block font-mono text-2xl tracking-wide break-all whitespace-pre-wrap" data-secret="shown">
        {[...shown.value].map((letter, at) => (
          // The same letter can stand anywhere: its place is its identity.
          // oxlint-disable-next-line no-array-index-key
          <span key={at} className={tone(letter)}>
            {letter}
          </span>
        ))}
      </output>
      {spelt && <p className="mt-1">{spell(shown.value)}</p>}
      <div className="mt-2 flex flex-wrap items-center gap-2">
        <button type="button" className="btn btn-sm" onClick={() => void copy()}>
          Copy
        </button>
        <button type="button" className="btn btn-sm" aria-pressed={spelt} onClick={() => setSpelt(!spelt)}>
          Spell it
        </button>
        <button type="button" className="btn btn-sm" onClick={hide}>
          Hide
        </button>
        <span className="quiet tabular-nums">hides itself in {left} s</span>
        <span role="status">{copied}</span>
      </div>
    </div>
  );
}

/** The way to the secret: what it costs is said before it is asked for. */
function Secret({ it, me }: { it: Credential; me: Me }) {
  const client = useQueryClient();
  const [shown, setShown] = useState<Revealed | null>(null);
  const held = useQuery({ queryKey: ["checkouts", it.id], queryFn: () => api.get<Page<Checkout>>(`/checkouts?open=true&credential=${it.id}`), enabled: Boolean(it.gate) });
  const asked = useQuery({ queryKey: ["requests", "of", it.id], queryFn: () => api.get<Page<Request>>(`/requests?limit=20&credential=${it.id}`), enabled: Boolean(it.gate) });
  const reveal = useMutation({
    mutationFn: () => api.post<Revealed>(`/credentials/${it.id}/reveal`, {}),
    onSuccess: setShown,
  });
  const mine = held.data?.items.find((each) => each.person === me.id);
  const other = held.data?.items.find((each) => each.person !== me.id);
  const request = asked.data?.items.find((each) => each.person === me.id && (each.state === "waiting" || (each.state === "approved" && !each.checkout)));
  const after = ["checkouts", "requests", "overview", "credential"];
  if (shown) return <Shown shown={shown} hide={() => setShown(null)} />;
  const may = atLeast(it.level, "reveal");
  const gate = it.gate;
  return (
    <div className="my-2">
      <p className="font-mono text-xl tracking-widest" aria-label="The secret is hidden">
        ••••••••••••
      </p>
      {gate && (
        <p className="quiet">
          A gate stands here{gate.place !== `${it.place}/${it.name}` && `, set on ${gate.place}`}: {[gate.needs_reason && "a reason", gate.needs_approval && `an approval by ${gate.approvers.map((approver) => approver.name).join(" or ")}`, `at most ${gate.longest_minutes} minutes`, gate.one_holder && "one person at a time", gate.rotate_on_return && "rotated afterwards"].filter(Boolean).join(", ")}.
        </p>
      )}
      {other && <p><State word="waiting" /> {other.person_name} holds it; <Left until={other.ends_at} /> left.{atLeast(it.level, "steward") && <> <Act label="Recall" look="btn-xs" run={() => api.post(`/checkouts/${other.id}/recall`)} after={after} confirm={`Take it back from ${other.person_name}? Their time ends at once${other.rotate_on_return ? ", and the password is rotated" : ""}.`} /></>}</p>}
      {mine && <p className="font-medium">You hold it; <Left until={mine.ends_at} /> left.</p>}
      {request && <p><State word={request.state} /> your request{request.comment && `: “${request.comment}”`}</p>}
      <div className="mt-1 flex flex-wrap items-start gap-2">
        {may && (!gate || mine) && (
          <button type="button" className="btn btn-primary btn-sm" onClick={() => reveal.mutate()} disabled={reveal.isPending}>
            Reveal {reveal.isPending && "…"}
          </button>
        )}
        {mine && <Act label="Check in" run={() => api.post(`/checkouts/${mine.id}/check-in`)} after={after} />}
        {request?.state === "approved" && !mine && <Act label="Check out" look="btn-sm btn-primary" run={() => api.post("/checkouts", { request: request.id })} after={after} />}
        {request && !mine && <Act label="Withdraw" look="btn-sm btn-ghost" run={() => api.post(`/requests/${request.id}/withdraw`)} after={after} />}
      </div>
      {gate && !mine && !request && (
        <Form
          label={gate.needs_approval ? "Ask for it" : "Check out"}
          after={after}
          submit={(data) => {
            const body = { credential: it.id, reason: text(data, "reason"), minutes: Number(text(data, "minutes")) };
            return gate.needs_approval ? api.post("/requests", body) : api.post("/checkouts", body);
          }}
        >
          <Field label="Reason" name="reason" required={gate.needs_reason} />
          <Field label="Minutes" name="minutes" type="number" min={1} max={gate.longest_minutes} defaultValue={Math.min(30, gate.longest_minutes)} />
        </Form>
      )}
      {!may && !gate && <Empty>You hold “{it.level}” here, which does not show it. A steward of the folder can grant “reveal”.</Empty>}
      <Trouble error={reveal.error} />
      {reveal.error && <button type="button" className="link" onClick={() => void client.invalidateQueries({ queryKey: ["credential", it.id] })}>Look again</button>}
    </div>
  );
}

function History({ it }: { it: Credential }) {
  const [shown, setShown] = useState<Revealed | null>(null);
  const versions = useQuery({ queryKey: ["history", it.id], queryFn: () => all<Version>(`/credentials/${it.id}/history`) });
  const look = useMutation({ mutationFn: (version: Version) => api.post<Revealed>(`/credentials/${it.id}/reveal`, { field: version.field, version: version.number }), onSuccess: setShown });
  return (
    <>
      <Trouble error={versions.error ?? look.error} />
      {shown && (
        <>
          <p>Version {shown.version}:</p>
          <Shown shown={shown} hide={() => setShown(null)} />
        </>
      )}
      <Table label="Versions" heads={["Version", "State", "Made", "By", "How", "Look"]}>
        {versions.data?.map((version) => (
          <tr key={`${version.field} ${version.number}`}>
            <td className="tabular-nums">{version.number}</td>
            <td><State word={version.state} /></td>
            <td><When at={version.made_at} /></td>
            <td>{version.made_by ?? "upkeep"}</td>
            <td>{version.made_how}</td>
            <td>
              <button type="button" className="btn btn-xs" onClick={() => look.mutate(version)}>
                Reveal
              </button>
            </td>
          </tr>
        ))}
      </Table>
    </>
  );
}

function Edit({ it, close }: { it: Credential; close: () => void }) {
  const devices = useQuery({ queryKey: ["devices"], queryFn: () => all<Device>("/devices") });
  const folders = useQuery({ queryKey: ["folders"], queryFn: () => all<Folder>("/folders", 50_000) });
  const kinds = useQuery({ queryKey: ["kinds"], queryFn: () => all<Kind>("/kinds") });
  const kind = kinds.data?.find((each) => each.name === it.kind);
  if (!kind) return <Trouble error={kinds.error} />;
  const submit = (data: FormData) => {
    const { fields, password, secrets } = collect(data, kind, it.fields);
    const device = text(data, "device");
    return api.patch(`/credentials/${it.id}`, { name: text(data, "name"), fields, password, secrets, folder: text(data, "folder") || undefined, device: device || undefined, no_device: !device }, it.version);
  };
  const hint = (field: Kind["fields"][number]) => {
    if (field.name === MAIN && it.device) return "Left empty, it stays. A new one is for the vault alone: the device is not told. To change it there too, use Rotate now.";
    return field.holds === "one-time-seed" ? "Left empty, it stays. The seed as base32, or the otpauth:// address that it came with." : "Left empty, it stays.";
  };
  return (
    <Form label="Save" submit={submit} after={["credential", "credentials", "history", "upkeep"]} done={close}>
      <Field label="Name" name="name" defaultValue={it.name} required />
      <KindFields kind={kind} present={it.fields} secretHint={hint} />
      {devices.data && (it.device || kind.fields.some((field) => field.name === "user_name")) && <Choice label="Account of the device" name="device" defaultValue={it.device ?? ""} options={[["", "none"], ...devices.data.map((device): [string, string] => [device.id, `${device.place}/${device.name}`])]} />}
      {folders.data && <Choice label="Folder" name="folder" defaultValue={it.folder} options={folders.data.filter((folder) => atLeast(folder.level, "edit") || folder.id === it.folder).map((folder) => [folder.id, folder.path])} />}
    </Form>
  );
}

/** The current one-time code, for everybody who may use the credential. It is asked for once, and
 * again by a press: every look is in the audit log. */
function Codes({ it }: { it: Credential }) {
  const [code, setCode] = useState<OneTimeCode | null>(null);
  const [left, setLeft] = useState(0);
  const look = useMutation({
    mutationFn: () => api.post<OneTimeCode>(`/credentials/${it.id}/code`),
    onSuccess: (found) => {
      setCode(found);
      setLeft(found.left);
    },
  });
  useEffect(() => {
    if (!code) return;
    const timer = setInterval(() => setLeft((before) => before - 1), 1000);
    return () => clearInterval(timer);
  }, [code]);
  const fresh = left > 0 ? code : null;
  return (
    <div className="my-1 flex flex-wrap items-center gap-2">
      {fresh && (
        <>
          <output aria-label="The one-time code" className="font-mono text-2xl tracking-widest">
            {fresh.digits.replace(/^(.{3,4}?)(.{3,4})$/, "$1 $2")}
          </output>
          <progress className="progress progress-primary w-24" max={fresh.period} value={left} aria-label="Time left of this code" />
          <span className="quiet tabular-nums">{left} s left</span>
          <Act label="Copy" run={() => navigator.clipboard.writeText(fresh.digits)} />
        </>
      )}
      {!fresh && (
        <button type="button" className="btn btn-sm" onClick={() => look.mutate()} disabled={look.isPending}>
          One-time code {look.isPending && "…"}
        </button>
      )}
      <Trouble error={look.error} />
    </div>
  );
}

function Jobs({ it }: { it: Credential }) {
  const jobs = useQuery({ queryKey: ["jobs", it.id], queryFn: () => api.get<Page<Job>>(`/jobs?limit=20&credential=${it.id}`) });
  if (jobs.data?.items.length === 0) return <Empty>No job has run for this account yet.</Empty>;
  return jobs.data ? <JobRows jobs={jobs.data.items} /> : <Trouble error={jobs.error} />;
}

function Events({ it }: { it: Credential }) {
  const events = useQuery({ queryKey: ["audit", "of", it.id], queryFn: () => api.get<Page<AuditEvent>>(`/audit?limit=30&target=${it.id}`) });
  return events.data ? <AuditRows events={events.data.items} /> : <Trouble error={events.error} />;
}

const TABS = ["History", "Access", "Jobs", "Events"] as const;

export function Detail({ it, me }: { it: Credential; me: Me }) {
  const [tab, setTab] = useState<(typeof TABS)[number] | null>(null);
  const stewards = atLeast(it.level, "steward");
  const after = ["jobs", "credential", "upkeep"];
  const upkeep = it.upkeep;
  const kinds = useQuery({ queryKey: ["kinds"], queryFn: () => all<Kind>("/kinds") });
  const kind = kinds.data?.find((each) => each.name === it.kind);
  const tabs = TABS.filter((each) => (each !== "History" || atLeast(it.level, "reveal")) && (each !== "Jobs" || it.device) && (each !== "Events" || stewards || me.duties.includes("audit")));
  return (
    <Card title={it.name} actions={<span className="quiet">{it.place}, you hold “{it.level}”</span>}>
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-0.5">
        {kind && (
          <>
            <dt className="quiet">Kind</dt>
            <dd>{kind.label}</dd>
          </>
        )}
        {kind?.fields.map((field) => {
          const value = it.fields[field.name];
          if (!value) return null;
          return (
            <Fragment key={field.name}>
              <dt className="quiet">{field.label}</dt>
              <dd className={field.holds === "note" ? "whitespace-pre-line" : "break-all"}>
                {field.holds === "url" ? (
                  <a className="link" href={value} rel="noreferrer noopener" target="_blank">
                    {value}
                  </a>
                ) : (
                  <span className={field.holds === "text" ? "font-mono" : ""}>{value}</span>
                )}
              </dd>
            </Fragment>
          );
        })}
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
              {upkeep.rotation_outcome && upkeep.rotation_outcome !== "done" && <> (last try: <State word={upkeep.rotation_outcome} />)</>}
            </dd>
            <dt className="quiet">Next rotation</dt>
            <dd><When at={upkeep.next_rotation_at} /></dd>
          </>
        )}
      </dl>
      <Secret it={it} me={me} />
      {it.secret_fields.includes(SEED) && atLeast(it.level, "use") && <Codes it={it} />}
      {it.device && (
        <div className="flex flex-wrap gap-2">
          {atLeast(it.level, "use") && <Act label="Check now" run={() => api.post(`/credentials/${it.id}/check`)} after={after} />}
          {atLeast(it.level, "edit") && <Act label="Rotate now" run={() => api.post(`/credentials/${it.id}/rotate`, {})} after={after} confirm="Give the account a new generated password, on the device and in the vault?" />}
          {atLeast(it.level, "edit") && <Act label="Rotate as itself" look="btn-sm btn-ghost" run={() => api.post(`/credentials/${it.id}/rotate`, { way: "self" })} after={after} confirm="Have the account change its own password at its own prompt, without the operator?" />}
        </div>
      )}
      {atLeast(it.level, "edit") && <Fold label="Edit">{(close) => <Edit it={it} close={close} />}</Fold>}
      {stewards && (
        <>
          <Fold label="Gate of its own">{(close) => <GateForm credential={it.id} close={close} />}</Fold>
          {it.device && <Fold label="Upkeep plan of its own">{(close) => <PlanForm credential={it.id} close={close} />}</Fold>}
          <Fold label="Remove">{() => <Act label={`Remove ${it.name}`} run={() => api.remove(`/credentials/${it.id}`, it.version)} after={["credentials", "credential"]} confirm={`Remove ${it.name}? Its versions stay in the records.`} />}</Fold>
        </>
      )}
      <div role="tablist" aria-label="More about it" className="mt-2 flex gap-1 border-t border-base-300 pt-2">
        {tabs.map((each) => (
          <button key={each} type="button" role="tab" aria-selected={tab === each} className={`btn btn-sm ${tab === each ? "btn-primary" : "btn-ghost"}`} onClick={() => setTab(tab === each ? null : each)}>
            {each}
          </button>
        ))}
      </div>
      {tab === "History" && <History it={it} />}
      {tab === "Access" && (
        <div className="flex flex-col gap-3">
          <Explain credential={it.id} self={me.id} />
          {stewards && <Grants credential={it.id} />}
        </div>
      )}
      {tab === "Jobs" && <Jobs it={it} />}
      {tab === "Events" && <Events it={it} />}
    </Card>
  );
}
