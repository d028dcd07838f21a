// Requests: every step of passing a gate, and of asking for access.

import { useQuery } from "@tanstack/react-query";
import { Link } from "wouter";
import { type Request, all, api } from "../api";
import { Card, Empty, Page, Tabs } from "../parts";
import { type Column, DataTable } from "../parts/data-table";
import { AccessRequests } from "./access-requests";
import { credentialColumn, stateColumn, whenColumn } from "./columns";
import { Asks, Decision } from "./decision";

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
