// Checkouts: what somebody holds, and what was held before.

import { useQuery } from "@tanstack/react-query";
import { Link } from "wouter";
import { type Checkout, all, api, result } from "../api";
import { Card, Empty, Left, Page, Trouble, When } from "../parts";
import { type Asked, RemoteTable, chosenOnly, narrowed } from "../parts/remote-table";
import type { Column } from "../parts/table-state";
import { credentialColumn, whenColumn } from "./columns";
import { Held } from "./held";

/** How a checkout ends, in words. */
const ENDED: Record<string, string> = {
  "held-now": "held now",
  "check-in": "checked in",
  time: "its time was over",
  recalled: "recalled",
};

const COLUMNS: Column<Checkout>[] = [
  credentialColumn(
    (held) => held.credential,
    (held) => held.credential_path,
  ),
  { ...whenColumn<Checkout>("from", "From", (held) => held.starts_at), unfiltered: true },
  {
    name: "until",
    head: "Until",
    unfiltered: true,
    value: (held) => held.ended_at ?? held.ends_at,
    cell: (held) =>
      held.ended_at ? (
        <When at={held.ended_at} />
      ) : (
        <>
          <Left until={held.ends_at} /> left
        </>
      ),
  },
  {
    name: "ended",
    head: "Ended",
    value: (held) => held.ended_how ?? "held-now",
    cell: (held) => ENDED[held.ended_how ?? "held-now"],
    choices: Object.keys(ENDED),
    word: (value) => ENDED[value] ?? value,
    one: true,
  },
  { name: "reason", head: "Reason", value: (held) => held.reason },
];

const TABLE = ["checkouts", "table"];

const part = (asked: Asked, from: number, limit: number) =>
  result(
    api.GET("/api/v1/checkouts/table", {
      params: {
        query: {
          ...narrowed(asked, { credential: "credential", reason: "reason", ended: "ended" }),
          sort: asked.sort,
          from,
          limit,
        },
      },
    }),
  );

export function Checkouts() {
  const open = useQuery({
    queryKey: ["checkouts", "open"],
    queryFn: () =>
      all((page) => api.GET("/api/v1/checkouts", { params: { query: { ...page, open: true } } })),
  });
  const mine = open.data ?? [];
  return (
    <Page title="Checkouts" note="What you hold, and until when.">
      {mine.length > 0 && (
        <Card title="Checked out to you" count={mine.length}>
          <ul className="divide-y divide-base-300">
            {mine.map((held) => (
              <Held key={held.id} held={held} />
            ))}
          </ul>
        </Card>
      )}
      <h2 className="font-semibold">Your checkouts</h2>
      <Trouble error={open.error} />
      <RemoteTable
        label="Checkouts"
        columns={COLUMNS}
        id={(held) => held.id}
        name={TABLE}
        fetch={part}
        values={chosenOnly}
        first="-from"
        file="checkouts.csv"
        empty={
          <Empty
            action={
              <Link href="/vault" className="btn btn-sm btn-primary">
                Open the vault
              </Link>
            }
          >
            You have not checked anything out yet. A credential behind a gate is checked out before
            its password is shown.
          </Empty>
        }
      />
    </Page>
  );
}
