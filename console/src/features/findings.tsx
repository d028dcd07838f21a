// Findings: what is wrong with passwords that one may reveal, and what to do about it.

import { Link } from "wouter";
import { type CredentialItem, api, result } from "../api";
import { Act, Empty, Page, State } from "../parts";
import { type Asked, RemoteTable, chosenOnly, narrowed } from "../parts/remote-table";
import type { Column } from "../parts/table-state";
import { nameAndFolder, whenColumn } from "./columns";
import { accountOf, addJobs } from "./job-tasks";

const FINDINGS = [
  "leaked",
  "out-of-sync",
  "weak",
  "reused",
  "expired",
  "breaks-policy",
  "expires-soon",
  "old",
];

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
    choices: FINDINGS,
    word: (value) => value.replaceAll("-", " "),
    one: true,
    unsorted: true,
  },
  ...nameAndFolder,
  { name: "user-name", head: "User name", value: (item) => item.user_name },
  { name: "device", head: "Device", value: (item) => item.device ?? "" },
  {
    ...whenColumn<CredentialItem>("changed", "Changed", (item) => item.changed_at),
    unfiltered: true,
  },
];

const TABLE = ["credentials", "findings"];

const part = (asked: Asked, from: number, limit: number) =>
  result(
    api.GET("/api/v1/credentials/table", {
      params: {
        query: {
          finding: "any",
          ...narrowed(asked, {
            finding: "finding",
            name: "name",
            "user-name": "user",
            device: "device",
          }),
          sort: asked.sort,
          from,
          limit,
        },
      },
    }),
  );

export function Findings() {
  return (
    <Page
      title="Findings"
      note="Passwords that are leaked, weak, reused, old, expired or out of sync, among those that you may reveal."
    >
      <RemoteTable
        label="Findings"
        columns={COLUMNS}
        id={(item) => item.id}
        name={TABLE}
        fetch={part}
        values={chosenOnly}
        first="name"
        file="findings.csv"
        bulk={(items, clear) => {
          const accounts = items.filter((item) => item.device);
          return (
            <Act
              label={`Rotate ${accounts.length}`}
              look="btn-sm btn-primary"
              run={async () => {
                await addJobs("rotation", accounts.map(accountOf));
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
