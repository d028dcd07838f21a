// The audit log: filters, pages, export.

import { useState } from "react";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { BadgeCheck, Download } from "lucide-react";
import { type AuditEvent, all, api, result } from "../api";
import { useSettled } from "../parts/settled";
import type { Column } from "../parts/table-state";
import { csvOf } from "../parts/table-view";
import {
  Act,
  Choice,
  CredentialLink,
  DeviceLink,
  DrawerButton,
  Empty,
  Field,
  FolderLink,
  Page,
  PersonLink,
  Skeleton,
  State,
  Table,
  Trouble,
  When,
  keepFile,
  told,
  useQueryPart,
} from "../parts";

/** What an event was about, as a link where it has a page. */
function Target({ event }: { event: AuditEvent }) {
  const { target, target_name: name, target_type: type } = event;
  if (!target || !name) return <>{name}</>;
  if (type === "credential") return <CredentialLink id={target} path={name} />;
  if (type === "folder") return <FolderLink id={target} path={name} />;
  if (type === "person") return <PersonLink id={target} name={name} />;
  if (type === "device") return <DeviceLink id={target} name={name} />;
  return <>{name}</>;
}

/** The details of an event; the whole of long ones by a press. */
function Details({ event }: { event: AuditEvent }) {
  const [whole, setWhole] = useState(false);
  const text = Object.entries(event.detail)
    .filter(([name]) => !["job", "checkout", "request"].includes(name))
    .map(([name, value]) => `${name.replaceAll("_", " ")}: ${value}`)
    .join("; ");
  if (text.length < 140) return <>{text}</>;
  return (
    <>
      <span className={whole ? "" : "line-clamp-2"}>{text}</span>
      <button type="button" className="link" onClick={() => setWhole(!whole)}>
        {whole ? "less" : "more"}
        <span className="sr-only"> about {event.target_name || event.action}</span>
      </button>
    </>
  );
}

export function AuditRows({ events }: { events: AuditEvent[] }) {
  return (
    <Table
      label="Events"
      heads={["When", "Who", "Event", "Outcome", "Target", "From", "Details", "Position"]}
    >
      {events.map((event) => (
        <tr key={event.id}>
          <td>
            <When at={event.at} />
          </td>
          <td className="whitespace-nowrap">
            {event.actor && event.actor_name ? (
              <PersonLink id={event.actor} name={event.actor_name} />
            ) : (
              event.actor_name || <span className="quiet">the service</span>
            )}
          </td>
          <td className="font-mono text-sm">{event.action}</td>
          <td>
            <State word={event.outcome} />
          </td>
          <td>
            <Target event={event} />
          </td>
          <td className="tabular-nums">{event.origin}</td>
          <td className="min-w-40 max-w-xs break-words">
            <Details event={event} />
          </td>
          <td
            className="tabular-nums"
            title={event.leaf === null ? "not in a checkpoint yet" : "position in the log"}
          >
            {event.leaf ?? "–"}
          </td>
        </tr>
      ))}
    </Table>
  );
}

const CSV: Column<AuditEvent>[] = [
  { name: "at", head: "at", value: (event) => event.at },
  { name: "actor", head: "who", value: (event) => event.actor_name ?? "" },
  { name: "action", head: "event", value: (event) => event.action },
  { name: "outcome", head: "outcome", value: (event) => event.outcome },
  { name: "target", head: "target", value: (event) => event.target_name ?? "" },
  { name: "origin", head: "from", value: (event) => event.origin },
  { name: "detail", head: "details", value: (event) => JSON.stringify(event.detail) },
  { name: "leaf", head: "position", value: (event) => event.leaf ?? "" },
];
/** More are better exported whole, and signed. */
const MOST_SAVED = 10_000;

/** Saves the events that are looked at, for a spreadsheet. It proves nothing: the export does. */
async function save(query: object): Promise<void> {
  const events = await all(
    (page) => api.GET("/api/v1/audit", { params: { query: { ...query, ...page } } }),
    MOST_SAVED,
  );
  keepFile(csvOf(CSV, events.slice(0, MOST_SAVED)), "audit.csv");
  if (events.length >= MOST_SAVED)
    told(
      `The newest ${MOST_SAVED.toLocaleString()} events are saved. Export the whole log for all.`,
    );
}

export function Audit() {
  const [action, setAction] = useQueryPart("action");
  const [outcome, setOutcome] = useQueryPart("outcome");
  const [find, setFind] = useQueryPart("find");
  const [since, setSince] = useQueryPart("since");
  const [until, setUntil] = useQueryPart("until");
  // Each look at the log is in the log: not one for each letter.
  const [wanted, event] = [useSettled(find), useSettled(action)];
  const query = {
    action: (event || undefined) as AuditEvent["action"] | undefined,
    outcome: (outcome || undefined) as AuditEvent["outcome"] | undefined,
    find: wanted,
    ...(since && { since: new Date(`${since}T00:00`).toISOString() }),
    ...(until && { until: new Date(`${until}T23:59:59.999`).toISOString() }),
  };
  const key = useQuery({
    queryKey: ["audit-key"],
    queryFn: () => result(api.GET("/api/v1/audit/key")),
  });
  const events = useInfiniteQuery({
    queryKey: ["audit", query],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      result(
        api.GET("/api/v1/audit", {
          params: {
            query: { ...query, limit: 100, cursor: pageParam },
          },
        }),
      ),
    getNextPageParam: (page) => page.next,
  });
  const rows = events.data?.pages.flatMap((page) => page.items) ?? [];
  const size = key.data?.checkpoint?.split("\n")[1];
  return (
    <Page
      title="Audit log"
      note={
        size
          ? `The newest signed checkpoint covers ${size} events.`
          : "There is no signed checkpoint yet."
      }
      actions={
        <>
          <DrawerButton
            label="Verify the log"
            icon={<BadgeCheck className="size-4" aria-hidden="true" />}
          >
            {() => (
              <div className="flex flex-col gap-3">
                <p>
                  Anybody can verify an export with the public key alone, on any machine. Keep a
                  copy of the key elsewhere.
                </p>
                <p className="font-mono text-[0.8125rem] break-all">{key.data?.key}</p>
                <p className="font-mono text-[0.8125rem]">
                  jexlin audit verify audit.jsonl --key-file audit.key
                </p>
              </div>
            )}
          </DrawerButton>
          <a className="btn btn-sm btn-primary" href="/api/v1/audit/export" download="audit.jsonl">
            <Download className="size-4" aria-hidden="true" />
            Export the whole log
          </a>
        </>
      }
    >
      <div className="flex flex-wrap items-end gap-3">
        <Field
          label="Event"
          name="action"
          placeholder="credential"
          value={action}
          onChange={(event) => setAction(event.target.value)}
        />
        <Choice
          label="Outcome"
          name="outcome"
          value={outcome}
          onChange={(event) => setOutcome(event.target.value)}
          options={[
            ["", "any"],
            ["done", "done"],
            ["refused", "refused"],
            ["failed", "failed"],
          ]}
        />
        <Field
          label="Person or target"
          name="find"
          value={find}
          onChange={(event) => setFind(event.target.value)}
        />
        <Field
          label="From"
          name="since"
          type="date"
          value={since}
          max={until || undefined}
          onChange={(event) => setSince(event.target.value)}
        />
        <Field
          label="Until"
          name="until"
          type="date"
          value={until}
          min={since || undefined}
          onChange={(event) => setUntil(event.target.value)}
        />
        <Act label="Save these as CSV" look="btn-sm" run={() => save(query)} />
      </div>
      <Trouble error={events.error} />
      {events.isPending && <Skeleton rows={8} />}
      {events.isSuccess && rows.length === 0 && <Empty>No event fits these filters.</Empty>}
      {rows.length > 0 && (
        <div className="rounded-box border border-base-300 bg-base-100">
          <AuditRows events={rows} />
        </div>
      )}
      {events.hasNextPage && (
        <button
          type="button"
          className="btn btn-sm self-start"
          onClick={() => void events.fetchNextPage()}
          disabled={events.isFetchingNextPage}
        >
          Older events
        </button>
      )}
    </Page>
  );
}
