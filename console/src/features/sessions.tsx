// Sessions: one's own, and by duty those of others.

import { useQuery } from "@tanstack/react-query";
import { type Session, api, result, wholeList } from "../api";
import { Act, Empty, Table, Trouble, When, told } from "../parts";

const CHANNELS: Record<Session["channel"], string> = {
  console: "console",
  client: "command line",
  program: "program",
};

/** The sessions of a person that have not ended; the viewer's own when nobody is named. */
export function Sessions({ person, name }: { person?: string; name?: string }) {
  const query = person ? { person } : {};
  const key = ["sessions", person ?? "own"];
  const sessions = useQuery({
    queryKey: key,
    queryFn: () => wholeList(api.GET("/api/v1/sessions", { params: { query } })),
  });
  const end = (session: Session) => () =>
    result(api.DELETE("/api/v1/sessions/{session}", { params: { path: { session: session.id } } }));
  const endAll = async () => {
    const { ended } = await result(api.DELETE("/api/v1/sessions", { params: { query } }));
    told(`${ended} ${ended === 1 ? "session" : "sessions"} ended.`);
  };
  const others = (sessions.data ?? []).filter((session) => !session.current);
  return (
    <>
      <Trouble error={sessions.error} />
      {sessions.data?.length === 0 && <Empty>No session is open.</Empty>}
      {(sessions.data?.length ?? 0) > 0 && (
        <Table
          label={name ? `Sessions of ${name}` : "Your sessions"}
          heads={["From", "Begun", "Last used", "Ends", "Actions"]}
        >
          {sessions.data?.map((session) => (
            <tr key={session.id}>
              <td>
                {session.origin || "unknown"}
                <span className="quiet block text-sm">{CHANNELS[session.channel]}</span>
              </td>
              <td>
                <When at={session.created_at} />
              </td>
              <td>
                <When at={session.last_used_at} />
              </td>
              <td>
                <When at={session.ends_at} />
              </td>
              <td>
                {session.current ? (
                  <span className="quiet">this one</span>
                ) : (
                  <Act
                    label="End"
                    of={`the session from ${session.origin}`}
                    look="btn-xs"
                    run={end(session)}
                    after={["sessions"]}
                  />
                )}
              </td>
            </tr>
          ))}
        </Table>
      )}
      {others.length > 0 && (
        <p className="mt-2">
          <Act
            label={name ? "End all sessions" : "End all others"}
            run={endAll}
            after={["sessions"]}
            confirm={name ? `End all sessions of ${name}?` : "End all your sessions but this one?"}
          />
        </p>
      )}
    </>
  );
}
