// The audit log: filters, pages, export.

import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type AuditEvent, api, result } from "../api";
import { Card, Choice, Empty, Field, State, Table, Trouble, When } from "../components";

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
          <td>{event.actor_name || <span className="quiet">the service</span>}</td>
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
  const [action, setAction] = useState("");
  const [outcome, setOutcome] = useState("");
  const [find, setFind] = useState("");
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
    <div className="flex flex-col gap-3">
      <h1 className="text-xl font-semibold">Audit log</h1>
      <Card
        title="Verify the log"
        actions={
          <a className="btn btn-sm" href="/api/v1/audit/export" download="audit.jsonl">
            Export the whole log
          </a>
        }
      >
        <p>
          {size
            ? `The newest signed checkpoint covers ${size} events.`
            : "There is no checkpoint yet."}{" "}
          Anybody can verify an export with the public key alone:{" "}
          <code className="font-mono">jexlin audit verify audit.jsonl --key-file audit.key</code>
        </p>
        <p className="mt-1 text-sm">
          Public key (keep a copy elsewhere):{" "}
          <code className="font-mono break-all">{key.data?.key}</code>
        </p>
      </Card>
      <Card title="Events, newest first">
        <div className="mb-2 flex flex-wrap gap-3">
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
        {events.isSuccess && rows.length === 0 && <Empty>No event fits these filters.</Empty>}
        {rows.length > 0 && <AuditRows events={rows} />}
        {events.hasNextPage && (
          <button
            type="button"
            className="btn btn-sm mt-2"
            onClick={() => void events.fetchNextPage()}
            disabled={events.isFetchingNextPage}
          >
            Older events
          </button>
        )}
      </Card>
    </div>
  );
}
