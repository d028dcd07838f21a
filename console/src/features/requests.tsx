// Requests and checkouts: every step of passing a gate.

import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Request, api, result, all } from "../api";
import { Act, Card, Choice, Empty, Field, Left, State, Table, Trouble, When } from "../components";
import { CheckIn } from "./check-in";
import { CredentialLink } from "./credential-link";
import { AccessRequests } from "./access-requests";

/** Approve or refuse, with a comment. */
export function Decision({ request }: { request: Request }) {
  const [comment, setComment] = useState("");
  const told = { params: { path: { request: request.id } }, body: { comment } };
  const settle = (what: "approve" | "refuse") =>
    what === "approve"
      ? result(api.POST("/api/v1/requests/{request}/approve", told))
      : result(api.POST("/api/v1/requests/{request}/refuse", told));
  const after = ["overview", "requests"];
  return (
    <div className="mt-1 flex flex-wrap items-end gap-2">
      <Field
        label={`Comment to ${request.person_name}`}
        name="comment"
        value={comment}
        onChange={(event) => setComment(event.target.value)}
      />
      <Act label="Approve" run={() => settle("approve")} after={after} look="btn-sm btn-primary" />
      <Act label="Refuse" run={() => settle("refuse")} after={after} />
    </div>
  );
}

export function Requests() {
  const [state, setState] = useState<Request["state"] | "">("");
  const requests = useQuery({
    queryKey: ["requests", state],
    queryFn: () =>
      all(
        (page) =>
          api.GET("/api/v1/requests", {
            params: { query: { ...page, state: state || undefined } },
          }),
        500,
      ),
  });
  const checkouts = useQuery({
    queryKey: ["checkouts"],
    queryFn: () => all((page) => api.GET("/api/v1/checkouts", { params: { query: page } }), 200),
  });
  const waiting = requests.data?.filter((request) => request.may_decide) ?? [];
  return (
    <div className="flex flex-col gap-3">
      <h1 className="text-xl font-semibold">Requests</h1>
      {waiting.length > 0 && (
        <Card title="Waiting for your decision">
          <ul className="flex flex-col gap-3">
            {waiting.map((request) => (
              <li key={request.id} className="border-l-4 border-info pl-3">
                <strong>{request.person_name}</strong> asks for{" "}
                <CredentialLink id={request.credential} path={request.credential_path} /> for{" "}
                {request.minutes} minutes: “{request.reason}”
                <Decision request={request} />
              </li>
            ))}
          </ul>
        </Card>
      )}
      <Card
        title="Your requests, and those that you may decide"
        actions={
          <Choice
            label="State"
            name="state"
            value={state}
            onChange={(event) => setState(event.target.value as Request["state"] | "")}
            options={[
              ["", "all"],
              ["waiting", "waiting"],
              ["approved", "approved"],
              ["refused", "refused"],
              ["withdrawn", "withdrawn"],
              ["expired", "expired"],
            ]}
          />
        }
      >
        <Trouble error={requests.error} />
        {requests.data?.length === 0 && (
          <Empty>
            No requests here. To ask for something behind a gate, open it in the vault and choose
            “Request checkout”.
          </Empty>
        )}
        {requests.data && requests.data.length > 0 && (
          <Table
            label="Requests"
            heads={["State", "Credential", "Who", "Minutes", "Reason", "Asked", "Answer"]}
          >
            {requests.data.map((request) => (
              <tr key={request.id}>
                <td>
                  <State word={request.state} />
                </td>
                <td>
                  <CredentialLink id={request.credential} path={request.credential_path} />
                </td>
                <td>{request.person_name}</td>
                <td className="tabular-nums">{request.minutes}</td>
                <td>{request.reason}</td>
                <td>
                  <When at={request.asked_at} />
                </td>
                <td>
                  {request.decided_by}
                  {request.comment && <span className="quiet"> “{request.comment}”</span>}
                </td>
              </tr>
            ))}
          </Table>
        )}
      </Card>
      <AccessRequests />
      <Card title="Your checkouts">
        <Trouble error={checkouts.error} />
        {checkouts.data?.length === 0 && <Empty>You have not checked anything out yet.</Empty>}
        {checkouts.data && checkouts.data.length > 0 && (
          <Table
            label="Checkouts"
            heads={["Credential", "From", "Until", "Ended", "Reason", "Actions"]}
          >
            {checkouts.data.map((held) => (
              <tr key={held.id}>
                <td>
                  <CredentialLink id={held.credential} path={held.credential_path} />
                </td>
                <td>
                  <When at={held.starts_at} />
                </td>
                <td>
                  {held.ended_at ? (
                    <When at={held.ended_at} />
                  ) : (
                    <>
                      <Left until={held.ends_at} /> left
                    </>
                  )}
                </td>
                <td>{held.ended_how ? `by ${held.ended_how}` : "held now"}</td>
                <td>{held.reason}</td>
                <td>{!held.ended_at && <CheckIn checkout={held.id} />}</td>
              </tr>
            ))}
          </Table>
        )}
      </Card>
    </div>
  );
}
