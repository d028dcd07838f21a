// Findings: what is wrong with passwords that one may reveal, and what to do about it.

import { useQuery } from "@tanstack/react-query";
import { Link } from "wouter";
import { type CredentialItem, all, api, result } from "../api";
import { Act, Empty, Page, State } from "../parts";
import { type Column, DataTable } from "../parts/data-table";
import { credentialColumn, whenColumn } from "./columns";

const COLUMNS: Column<CredentialItem>[] = [
  {
    name: "finding",
    head: "Finding",
    value: (item) => item.findings[0]?.replaceAll("-", " ") ?? "",
    cell: (item) => (
      <span className="flex flex-wrap gap-x-3">
        {item.findings.map((finding) => (
          <State key={finding} word={finding} />
        ))}
      </span>
    ),
    choices: true,
  },
  credentialColumn(
    (item) => item.id,
    (item) => `${item.place}/${item.name}`,
  ),
  { name: "user", head: "User name", value: (item) => item.user_name },
  { name: "device", head: "Device", value: (item) => item.device ?? "" },
  whenColumn("changed", "Changed", (item) => item.changed_at),
];

export function Findings() {
  const found = useQuery({
    queryKey: ["credentials", "findings"],
    queryFn: () =>
      all((page) =>
        api.GET("/api/v1/credentials", { params: { query: { ...page, finding: "any" } } }),
      ),
  });
  const rotate = (items: CredentialItem[]) => async () => {
    for (const item of items) {
      await result(
        api.POST("/api/v1/credentials/{credential}/rotate", {
          params: { path: { credential: item.id } },
          body: {},
        }),
      );
    }
  };
  return (
    <Page
      title="Findings"
      note="Passwords that are leaked, weak, reused, old, expired or out of sync, among those that you may reveal."
    >
      <DataTable
        label="Findings"
        columns={COLUMNS}
        id={(item) => item.id}
        query={found}
        file="findings.csv"
        bulk={(items, clear) => {
          const accounts = items.filter((item) => item.device);
          return (
            <Act
              label={`Rotate ${accounts.length}`}
              look="btn-sm btn-primary"
              run={async () => {
                await rotate(accounts)();
                clear();
              }}
              after={["credentials", "jobs", "overview"]}
              confirm={`Rotate ${accounts.length} ${accounts.length === 1 ? "account" : "accounts"} on devices? Each gets a new generated password, on the device and in the vault.`}
            />
          );
        }}
        empty={
          <Empty
            action={
              <Link href="/plans" className="btn btn-sm">
                Upkeep plans
              </Link>
            }
          >
            There are no weak, reused, leaked, expired or old passwords among those that you may
            reveal. An upkeep plan checks and rotates the accounts on devices automatically.
          </Empty>
        }
      />
    </Page>
  );
}
