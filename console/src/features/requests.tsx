// Requests: every step of passing a gate, and of asking for access.

import { useQuery } from "@tanstack/react-query";
import { Check } from "lucide-react";
import { useState } from "react";
import { Link } from "wouter";
import { type Request, all, api, result } from "../api";
import { Act, Ago, Card, CredentialLink, Empty, Page, Tabs } from "../parts";
import { type Column, DataTable } from "../parts/data-table";
import { AccessRequests } from "./access-requests";
import { credentialColumn, stateColumn, whenColumn } from "./columns";

/** Who asks for what, why, and since when. */
export function Asks({ request }: { request: Request }) {
  return (
    <>
      <p>
        <strong>{request.person_name}</strong> asks for{" "}
        <CredentialLink id={request.credential} path={request.credential_path} /> for{" "}
        {request.minutes} min
      </p>
      <p className="quiet">
        “{request.reason}” · <Ago at={request.asked_at} />
      </p>
    </>
  );
}

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
    <div className="mt-1.5 flex flex-wrap items-center gap-2">
      <Act
        label="Approve"
        icon={<Check className="size-4" aria-hidden="true" />}
        of={`the request of ${request.person_name}`}
        run={() => settle("approve")}
        after={after}
        look="btn-sm btn-primary"
      />
      <Act
        label="Refuse"
        of={`the request of ${request.person_name}`}
        run={() => settle("refuse")}
        after={after}
      />
      <input
        className="input input-sm min-w-40 grow"
        aria-label={`Comment to ${request.person_name}`}
        placeholder="Comment, if you like"
        value={comment}
        onChange={(event) => setComment(event.target.value)}
      />
    </div>
  );
}

const COLUMNS: Column<Request>[] = [
  stateColumn("state", "State", (request) => request.state),
  credentialColumn(
    (request) => request.credential,
    (request) => request.credential_path,
  ),
  { name: "who", head: "Who", value: (request) => request.person_name, choices: true },
  { name: "minutes", head: "Minutes", value: (request) => request.minutes, right: true },
  { name: "reason", head: "Reason", value: (request) => request.reason },
  whenColumn("asked", "Asked", (request) => request.asked_at),
  {
    name: "answer",
    head: "Answer",
    value: (request) => [request.decided_by, request.comment].filter(Boolean).join(": "),
  },
];

export function Requests() {
  const requests = useQuery({
    queryKey: ["requests"],
    queryFn: () => all((page) => api.GET("/api/v1/requests", { params: { query: page } }), 1000),
  });
  const waiting = requests.data?.filter((request) => request.may_decide) ?? [];
  return (
    <Page title="Requests" note="To pass a gate, and for access.">
      {waiting.length > 0 && (
        <Card title="Waiting for your decision" count={waiting.length}>
          <ul className="divide-y divide-base-300">
            {waiting.map((request) => (
              <li key={request.id} className="py-2">
                <Asks request={request} />
                <Decision request={request} />
              </li>
            ))}
          </ul>
        </Card>
      )}
      <Tabs
        label="Requests"
        tabs={[
          {
            name: "Checkouts",
            count: requests.data?.length,
            show: () => (
              <DataTable
                label="Requests"
                columns={COLUMNS}
                id={(request) => request.id}
                query={requests}
                file="requests.csv"
                empty={
                  <Empty
                    action={
                      <Link href="/vault" className="btn btn-sm btn-primary">
                        Open the vault
                      </Link>
                    }
                  >
                    No requests here. To ask for something behind a gate, open it in the vault and
                    choose “Request checkout”.
                  </Empty>
                }
              />
            ),
          },
          { name: "Access", show: () => <AccessRequests /> },
        ]}
      />
    </Page>
  );
}
