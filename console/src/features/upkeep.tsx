// Upkeep: the accounts, the live jobs, the plans.

import { useQuery } from "@tanstack/react-query";
import { Link } from "wouter";
import { type Account, type Job, type Plan, api, result, wholeList } from "../api";
import { Act, Empty, Page, State, When } from "../parts";
import { type Column, DataTable } from "../parts/data-table";
import { type Asked, RemoteTable, chosenOnly, narrowed } from "../parts/remote-table";
import { credentialColumn, stateColumn, whenColumn } from "./columns";
import { CAUSES } from "./job-rows";
import { TryAgain, addJobs } from "./job-tasks";

/** What a plan does, in words. */
export function planWords(plan: Plan): string {
  const parts = [];
  if (plan.check) parts.push(`checks by ${plan.check}`);
  parts.push(
    plan.out_of_sync === "report"
      ? "reports when out of sync"
      : plan.out_of_sync === "rotate"
        ? "rotates when out of sync"
        : "reports and rotates when out of sync",
  );
  if (plan.rotate_days) parts.push(`rotates every ${plan.rotate_days} days`);
  if (plan.rotate) parts.push(`rotates by ${plan.rotate}`);
  if (plan.hours_from) parts.push(`between ${plan.hours_from} and ${plan.hours_to}`);
  return `${parts.join(", ")} (${plan.time_zone})`;
}

/** How a check can have ended. */
const CHECKS = ["in-sync", "out-of-sync", "locked-out", "unreachable", "never-checked"];

const ACCOUNTS: Column<Account>[] = [
  credentialColumn(
    (account) => account.credential,
    (account) => account.credential_path,
  ),
  { name: "device", head: "Device", value: (account) => account.device },
  {
    ...stateColumn<Account>("state", "Last check", (account) => account.check_outcome),
    choices: [...CHECKS],
    one: true,
  },
  {
    ...whenColumn<Account>("checked", "Checked", (account) => account.checked_at),
    unfiltered: true,
  },
  {
    name: "rotated",
    head: "Rotated",
    unfiltered: true,
    value: (account) => account.rotated_at ?? "",
    cell: (account) => (
      <span className="flex flex-wrap gap-x-2">
        <When at={account.rotated_at} />
        {account.rotation_owed_at && <State word="owed" />}
      </span>
    ),
  },
  {
    ...whenColumn<Account>("next-check", "Next check", (account) => account.next_check_at),
    unfiltered: true,
  },
  {
    ...whenColumn<Account>("next-rotation", "Next rotation", (account) => account.next_rotation_at),
    unfiltered: true,
  },
];

const pathsOf = (accounts: Account[]) =>
  accounts.map((account) => ({ credential: account.credential, path: account.credential_path }));

const accountPart = (asked: Asked, from: number, limit: number) =>
  result(
    api.GET("/api/v1/upkeep/table", {
      params: {
        query: {
          ...narrowed(asked, { credential: "credential", device: "device", state: "check" }),
          sort: asked.sort,
          from,
          limit,
        },
      },
    }),
  );

const ACCOUNT_TABLE = ["upkeep", "table"];

export function Accounts() {
  const head = useQuery({
    queryKey: ["upkeep", "checks"],
    queryFn: () => result(api.GET("/api/v1/upkeep/table", { params: { query: { limit: 1 } } })),
  });
  const checks = (head.data?.checks ?? []).map(
    ({ outcome, accounts }) => [outcome, accounts] as const,
  );
  return (
    <Page
      title="Accounts"
      note="Accounts on devices, whether the stored password opens them, and what comes next."
    >
      <ul className="flex flex-wrap gap-x-5 gap-y-1" aria-label="Accounts by their last check">
        {checks
          .sort(([a], [b]) => (a ?? "").localeCompare(b ?? ""))
          .map(([outcome, count]) => (
            <li key={outcome ?? ""} className="flex items-center gap-1">
              <State word={outcome} /> {count.toLocaleString()}
            </li>
          ))}
      </ul>
      <RemoteTable
        label="Accounts"
        columns={ACCOUNTS}
        id={(account) => account.credential}
        name={ACCOUNT_TABLE}
        fetch={accountPart}
        values={chosenOnly}
        first="credential"
        file="accounts.csv"
        bulk={(chosen, clear) => (
          <>
            <Act
              label={`Check ${chosen.length}`}
              run={() => addJobs("check", pathsOf(chosen)).then(clear)}
              after={["jobs", "upkeep"]}
            />
            <Act
              label={`Rotate ${chosen.length}`}
              look="btn-sm btn-primary"
              run={() => addJobs("rotation", pathsOf(chosen)).then(clear)}
              after={["jobs", "upkeep"]}
              confirm={`Rotate ${chosen.length} ${chosen.length === 1 ? "account" : "accounts"}? Each gets a new generated password, on the device and in the vault.`}
            />
          </>
        )}
        empty={
          <Empty
            action={
              <Link href="/vault" className="btn btn-sm btn-primary">
                Open the vault
              </Link>
            }
          >
            No credential is an account on a device yet. Set the device of a credential in the
            vault, and it is listed here.
          </Empty>
        }
      />
    </Page>
  );
}

/** The state that says the most. */
const stateOf = (job: Job): string =>
  job.state === "done" || job.state === "failed"
    ? (job.outcome ?? job.state)
    : job.outcome === "in-doubt" && job.state === "queued"
      ? "in-doubt"
      : job.state;

const STATES = [
  "queued",
  "running",
  "in-doubt",
  "done",
  "in-sync",
  "out-of-sync",
  "refused",
  "locked-out",
  "unreachable",
  "cancelled",
];

const JOBS: Column<Job>[] = [
  { ...whenColumn<Job>("queued", "Queued", (job) => job.queued_at), unfiltered: true },
  {
    name: "task",
    head: "Job",
    value: (job) => job.task,
    choices: ["check", "rotation", "rehearsal", "listing"],
    one: true,
  },
  credentialColumn(
    (job) => job.credential,
    (job) => job.credential_path,
  ),
  { name: "device", head: "Device", value: (job) => job.device },
  {
    ...stateColumn<Job>("state", "State", stateOf),
    choices: [...STATES],
    one: true,
  },
  {
    name: "cause",
    head: "Why",
    value: (job) => job.cause,
    cell: (job) => CAUSES[job.cause] ?? job.cause,
    word: (value) => CAUSES[value] ?? value,
    choices: Object.keys(CAUSES),
    one: true,
  },
  {
    name: "message",
    head: "Message",
    unsorted: true,
    unfiltered: true,
    value: (job) => job.message,
    cell: (job) => (
      <span className="flex items-start justify-between gap-2">
        <span className="max-w-md">{job.message}</span>
        {job.state === "failed" && job.latest && <TryAgain job={job} look="btn-xs" />}
      </span>
    ),
  },
];

const jobPart = (asked: Asked, from: number, limit: number) =>
  result(
    api.GET("/api/v1/jobs/table", {
      params: {
        query: {
          ...narrowed(asked, {
            credential: "credential",
            device: "device",
            task: "task",
            state: "state",
            cause: "cause",
          }),
          sort: asked.sort,
          from,
          limit,
        },
      },
    }),
  );

const JOB_TABLE = ["jobs", "table"];

export function Jobs() {
  return (
    <Page title="Jobs" note="Checks and rotations, newest first; the list follows them by itself.">
      <RemoteTable
        label="Jobs"
        columns={JOBS}
        id={(job) => job.id}
        name={JOB_TABLE}
        fetch={jobPart}
        values={chosenOnly}
        first="-queued"
        file="jobs.csv"
        empty={
          <Empty
            action={
              <Link href="/accounts" className="btn btn-sm">
                Accounts
              </Link>
            }
          >
            No job has run yet. Check or rotate an account, or set a plan on a folder.
          </Empty>
        }
      />
    </Page>
  );
}

const PLANS: Column<Plan>[] = [
  { name: "place", head: "Set on", value: (plan) => plan.place },
  { name: "words", head: "Rules", value: planWords },
];

export function Plans() {
  const plans = useQuery({
    queryKey: ["plans"],
    queryFn: () => wholeList(api.GET("/api/v1/plans")),
  });
  return (
    <Page
      title="Plans"
      note="When accounts are checked and rotated. A plan counts for all below it."
    >
      <DataTable
        label="Plans"
        columns={PLANS}
        id={(plan) => plan.id}
        query={plans}
        file="plans.csv"
        empty={
          <Empty
            action={
              <Link href="/vault" className="btn btn-sm btn-primary">
                Open the vault
              </Link>
            }
          >
            There is no plan yet. Open a folder in the vault and set one: it counts for everything
            below.
          </Empty>
        }
      />
    </Page>
  );
}
