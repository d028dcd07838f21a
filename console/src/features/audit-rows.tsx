// The events of one thing, as a few rows.

import { useState } from "react";
import type { AuditEvent } from "../api";
import { CredentialLink, DeviceLink, FolderLink, PersonLink, State, Table, When } from "../parts";

/** What an event was about, as a link where it has a page. */
export function Target({ event }: { event: AuditEvent }) {
  const { target, target_name: name, target_type: type } = event;
  if (!target || !name) return <>{name}</>;
  if (type === "credential") return <CredentialLink id={target} path={name} />;
  if (type === "folder") return <FolderLink id={target} path={name} />;
  if (type === "person") return <PersonLink id={target} name={name} />;
  if (type === "device") return <DeviceLink id={target} name={name} />;
  return <>{name}</>;
}

/** The details of an event that a reader is told, in a line. */
export const detailsOf = (event: AuditEvent): string =>
  Object.entries(event.detail)
    .filter(([name]) => !["job", "checkout", "request"].includes(name))
    .map(([name, value]) => `${name.replaceAll("_", " ")}: ${value}`)
    .join("; ");

/** The details of an event; the whole of long ones by a press. */
function Details({ event }: { event: AuditEvent }) {
  const [whole, setWhole] = useState(false);
  const text = detailsOf(event);
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
