// Checkouts: what somebody holds, and what was held before.

import { useQuery } from "@tanstack/react-query";
import { Link } from "wouter";
import { type Checkout, type Me, all, api } from "../api";
import { Card, Empty, Left, Page, When } from "../parts";
import { type Column, DataTable } from "../parts/data-table";
import { credentialColumn, whenColumn } from "./columns";
import { Held } from "./held";

const COLUMNS: Column<Checkout>[] = [
  credentialColumn(
    (held) => held.credential,
    (held) => held.credential_path,
  ),
  { name: "who", head: "Holder", value: (held) => held.person_name, choices: true },
  whenColumn("from", "From", (held) => held.starts_at),
  {
    name: "until",
    head: "Until",
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
    value: (held) => held.ended_how ?? "held now",
    cell: (held) => (held.ended_how ? `by ${held.ended_how}` : "held now"),
    choices: true,
  },
  { name: "reason", head: "Reason", value: (held) => held.reason },
];

export function Checkouts({ me }: { me: Me }) {
  const checkouts = useQuery({
    queryKey: ["checkouts"],
    queryFn: () => all((page) => api.GET("/api/v1/checkouts", { params: { query: page } }), 2000),
  });
  const mine = checkouts.data?.filter((held) => held.person === me.id && !held.ended_at) ?? [];
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
      <DataTable
        label="Checkouts"
        columns={COLUMNS}
        id={(held) => held.id}
        query={checkouts}
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
