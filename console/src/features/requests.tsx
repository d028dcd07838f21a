// Requests: every step of passing a gate, and of asking for access.

import { useQuery } from "@tanstack/react-query";
import { Link } from "wouter";
import { type Request, all, api, result } from "../api";
import { Card, Empty, Page, Tabs, Trouble } from "../parts";
import { type Asked, RemoteTable, chosenOnly, narrowed } from "../parts/remote-table";
import type { Column } from "../parts/table-state";
import { AccessRequests } from "./access-requests";
import { credentialColumn, stateColumn, whenColumn } from "./columns";
import { Asks, Decision } from "./decision";

const COLUMNS: Column<Request>[] = [
  {
    ...stateColumn<Request>("state", "State", (request) => request.state),
    choices: ["waiting", "approved", "refused", "withdrawn", "expired"],
    one: true,
  },
  credentialColumn(
    (request) => request.credential,
    (request) => request.credential_path,
  ),
  { name: "who", head: "Who", value: (request) => request.person_name },
  {
    name: "minutes",
    head: "Minutes",
    value: (request) => request.minutes,
    right: true,
    unfiltered: true,
  },
  { name: "reason", head: "Reason", value: (request) => request.reason },
  { ...whenColumn<Request>("asked", "Asked", (request) => request.asked_at), unfiltered: true },
  {
    name: "answer",
    head: "Answer",
    unsorted: true,
    unfiltered: true,
    value: (request) => [request.decided_by, request.comment].filter(Boolean).join(": "),
  },
];

const TABLE = ["requests", "table"];

const part = (asked: Asked, from: number, limit: number) =>
  result(
    api.GET("/api/v1/requests/table", {
      params: {
        query: {
          ...narrowed(asked, {
            credential: "credential",
            who: "who",
            reason: "reason",
            state: "state",
          }),
          sort: asked.sort,
          from,
          limit,
        },
      },
    }),
  );

export function Requests() {
  const open = useQuery({
    queryKey: ["requests", "waiting"],
    queryFn: () =>
      all((page) =>
        api.GET("/api/v1/requests", { params: { query: { ...page, state: "waiting" } } }),
      ),
  });
  const waiting = open.data?.filter((request) => request.may_decide) ?? [];
  return (
    <Page title="Requests" note="To pass a gate, and for access.">
      <Trouble error={open.error} />
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
            show: () => (
              <RemoteTable
                label="Requests"
                columns={COLUMNS}
                id={(request) => request.id}
                name={TABLE}
                fetch={part}
                values={chosenOnly}
                first="-asked"
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
