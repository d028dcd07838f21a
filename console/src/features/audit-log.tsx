// The audit log: filters, pages, export.

import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { BadgeCheck, Download } from "lucide-react";
import { Link } from "wouter";
import { type AuditEvent, api, result } from "../api";
import {
  Choice,
  DrawerButton,
  Empty,
  Field,
  Page,
  Skeleton,
  State,
  Table,
  Trouble,
  When,
  useQueryPart,
} from "../parts";

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
              <Link href={`/people/${event.actor}`} className="hover:underline">
                {event.actor_name}
              </Link>
            ) : (
              event.actor_name || <span className="quiet">the service</span>
            )}
          </td>
          <td className="font-mono text-sm">{event.action}</td>
          <td>
            <State word={event.outcome} />
          </td>
          <td>{event.target_name}</td>
          <td className="tabular-nums">{event.origin}</td>
          <td className="max-w-sm text-sm break-words">
            {Object.entries(event.detail)
              .filter(([name]) => !["job", "checkout", "request"].includes(name))
              .map(([name, value]) => `${name.replaceAll("_", " ")}: ${value}`)
              .join("; ")}
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

export function Audit() {
  const [action, setAction] = useQueryPart("action");
  const [outcome, setOutcome] = useQueryPart("outcome");
  const [find, setFind] = useQueryPart("find");
  const key = useQuery({
    queryKey: ["audit-key"],
    queryFn: () => result(api.GET("/api/v1/audit/key")),
  });
  const events = useInfiniteQuery({
    queryKey: ["audit", action, outcome, find],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      result(
        api.GET("/api/v1/audit", {
          params: {
            query: {
              limit: 100,
              action: (action || undefined) as AuditEvent["action"] | undefined,
              outcome: (outcome || undefined) as AuditEvent["outcome"] | undefined,
              find,
              cursor: pageParam,
            },
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
