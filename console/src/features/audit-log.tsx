// The audit log: filtered, sorted and exported.

import type { ReactNode } from "react";
import { useQuery } from "@tanstack/react-query";
import { BadgeCheck, Download } from "lucide-react";
import { type AuditEvent, all, api, result } from "../api";
import { LogTable } from "../parts/log-table";
import type { Asked } from "../parts/remote-table";
import type { Column } from "../parts/table-state";
import { DrawerButton, Page, PersonLink, State, When, told } from "../parts";
import { Target, detailsOf } from "./audit-rows";

function Fact({ name, children }: { name: string; children: ReactNode }) {
  return (
    <>
      <dt className="quiet">{name}</dt>
      <dd className="break-words">{children || "–"}</dd>
    </>
  );
}

/** All that is recorded of an event. */
function Whole({ event }: { event: AuditEvent }) {
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-6 gap-y-2">
      <Fact name="When">
        <When at={event.at} />
      </Fact>
      <Fact name="Who">{event.actor_name || "the service"}</Fact>
      <Fact name="Event">
        <span className="font-mono">{event.action}</span>
      </Fact>
      <Fact name="Outcome">
        <State word={event.outcome} />
      </Fact>
      <Fact name="Target">
        <Target event={event} />
      </Fact>
      <Fact name="From">{event.origin}</Fact>
      {Object.entries(event.detail).map(([name, value]) => (
        <Fact key={name} name={name.replaceAll("_", " ")}>
          {value}
        </Fact>
      ))}
      <Fact name="Position in the log">{event.leaf ?? "none before the next checkpoint"}</Fact>
      <Fact name="Identifier">
        <span className="font-mono">{event.id}</span>
      </Fact>
    </dl>
  );
}

const COLUMNS: Column<AuditEvent>[] = [
  {
    name: "when",
    head: "When",
    value: (event) => event.at,
    cell: (event) => <When at={event.at} />,
    days: true,
    slim: true,
  },
  {
    name: "who",
    head: "Who",
    value: (event) => event.actor_name,
    cell: (event) => (
      <span className="whitespace-nowrap">
        {event.actor && event.actor_name ? (
          <PersonLink id={event.actor} name={event.actor_name} />
        ) : (
          event.actor_name || <span className="quiet">the service</span>
        )}
      </span>
    ),
    unsorted: true,
  },
  {
    name: "event",
    head: "Event",
    value: (event) => event.action,
    cell: (event) => (
      <DrawerButton
        label={event.action}
        more={event.target_name}
        title={event.action}
        look="btn-xs btn-ghost font-mono font-normal -ml-2 px-2"
      >
        {() => <Whole event={event} />}
      </DrawerButton>
    ),
    unsorted: true,
  },
  {
    name: "outcome",
    head: "Outcome",
    value: (event) => event.outcome,
    cell: (event) => <State word={event.outcome} />,
    choices: ["done", "refused", "failed"],
    one: true,
    unsorted: true,
  },
  {
    name: "target",
    head: "Target",
    value: (event) => event.target_name,
    cell: (event) => <Target event={event} />,
    unsorted: true,
  },
  { name: "from", head: "From", value: (event) => event.origin, unsorted: true },
  {
    name: "details",
    head: "Details",
    value: (event) => detailsOf(event),
    cell: (event) => (
      <span className="block w-48 truncate 2xl:w-96" title={detailsOf(event)}>
        {detailsOf(event)}
      </span>
    ),
    unsorted: true,
    unfiltered: true,
  },
  {
    name: "position",
    head: "Position",
    value: (event) => event.leaf ?? "",
    right: true,
    unsorted: true,
    unfiltered: true,
    extra: true,
  },
];
/** More are better exported whole, and signed. */
const MOST_SAVED = 10_000;

/** What the service is asked for. */
function queryOf({ sort, words, filters }: Asked) {
  const one = (column: string, place = 0) => filters.get(column)?.[place] || undefined;
  const [since, until] = [one("when"), one("when", 1)];
  const [who, target, from] = [one("who"), one("target"), one("from")];
  return {
    action: one("event") as AuditEvent["action"] | undefined,
    outcome: one("outcome") as AuditEvent["outcome"] | undefined,
    ...(words && { find: words }),
    ...(who && { actor_name: who }),
    ...(target && { target_name: target }),
    ...(from && { origin: from }),
    ...(since && { since: new Date(`${since}T00:00`).toISOString() }),
    ...(until && { until: new Date(`${until}T23:59:59.999`).toISOString() }),
    oldest: sort === "when",
  };
}

const fetch = (asked: Asked, cursor: string, limit: number) =>
  result(api.GET("/api/v1/audit", { params: { query: { ...queryOf(asked), limit, cursor } } }));

/** The events that are looked at, for a spreadsheet. They prove nothing: the export does. */
async function everything(asked: Asked): Promise<AuditEvent[]> {
  const events = await all(
    (page) => api.GET("/api/v1/audit", { params: { query: { ...queryOf(asked), ...page } } }),
    MOST_SAVED,
  );
  if (events.length >= MOST_SAVED)
    told(
      `The first ${MOST_SAVED.toLocaleString()} events are saved. Export the whole log for all.`,
    );
  return events.slice(0, MOST_SAVED);
}

export function Audit() {
  const key = useQuery({
    queryKey: ["audit-key"],
    queryFn: () => result(api.GET("/api/v1/audit/key")),
  });
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
      <LogTable
        label="Events"
        columns={COLUMNS}
        id={(event) => event.id}
        name="audit"
        fetch={fetch}
        everything={everything}
        first="-when"
        file="audit.csv"
      />
    </Page>
  );
}
