// Upkeep: the accounts, the live jobs, the plans.

import { useQuery } from "@tanstack/react-query";
import { Link } from "wouter";
import { type Account, type Job, type Plan, all, api, result, wholeList } from "../api";
import { Act, CredentialLink, Empty, Page, State, Table, When, told } from "../parts";
import { type Column, DataTable } from "../parts/data-table";
import { credentialColumn, stateColumn, whenColumn } from "./columns";

const CAUSES: Record<string, string> = {
  asked: "asked for",
  plan: "by the plan",
  "out-of-sync": "was out of sync",
  return: "after a checkout",
};

export function JobRows({ jobs }: { jobs: Job[] }) {
  return (
    <Table label="Jobs" heads={["When", "Job", "Credential", "State", "Why", "More"]}>
      {jobs.map((job) => (
        <tr key={job.id}>
          <td>
            <When at={job.queued_at} />
          </td>
          <td>{job.task}</td>
          <td>
            <CredentialLink id={job.credential} path={job.credential_path} />
          </td>
          <td aria-live="polite">
            <State
              word={
                job.state === "done" || job.state === "failed"
                  ? (job.outcome ?? job.state)
                  : job.outcome === "in-doubt" && job.state === "queued"
                    ? "in-doubt"
                    : job.state
              }
            />
          </td>
          <td>
            {CAUSES[job.cause] ?? job.cause}
            {job.asked_by && ` by ${job.asked_by}`}
          </td>
          <td className="max-w-md">
            {job.step || job.message}
            {job.state === "queued" && (
              <Act
                label="Cancel"
                of={`${job.task} of ${job.credential_path}`}
                look="btn-xs btn-ghost"
                run={() =>
                  result(
                    api.POST("/api/v1/jobs/{job}/cancel", { params: { path: { job: job.id } } }),
                  )
                }
                after={["jobs", "overview"]}
              />
            )}
          </td>
        </tr>
      ))}
    </Table>
  );
}

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

const check = (credential: string) => () =>
  result(api.POST("/api/v1/credentials/{credential}/check", { params: { path: { credential } } }));
const rotate = (credential: string) => () =>
  result(
    api.POST("/api/v1/credentials/{credential}/rotate", {
      params: { path: { credential } },
      body: {},
    }),
  );

const ACCOUNTS: Column<Account>[] = [
  credentialColumn(
    (account) => account.credential,
    (account) => account.credential_path,
  ),
  { name: "device", head: "Device", value: (account) => account.device, choices: true },
  stateColumn("state", "Last check", (account) => account.check_outcome),
  whenColumn("checked", "Checked", (account) => account.checked_at),
  {
    name: "rotated",
    head: "Rotated",
    value: (account) => account.rotated_at ?? "",
    cell: (account) => (
      <span className="flex flex-wrap gap-x-2">
        <When at={account.rotated_at} />
        {account.rotation_owed_at && <State word="owed" />}
      </span>
    ),
  },
  whenColumn("next-check", "Next check", (account) => account.next_check_at),
  whenColumn("next-rotation", "Next rotation", (account) => account.next_rotation_at),
];

/** Does the same to many accounts, and says how many it could not be begun for. */
async function forEach(
  accounts: Account[],
  act: (credential: string) => () => Promise<unknown>,
  what: string,
): Promise<void> {
  const done = await Promise.allSettled(accounts.map((account) => act(account.credential)()));
  const failed = done.filter((one) => one.status === "rejected").length;
  told(
    failed > 0
      ? `${what}: ${done.length - failed} queued, ${failed} could not be queued.`
      : `${what}: ${done.length} queued.`,
  );
}

export function Accounts() {
  const accounts = useQuery({
    queryKey: ["upkeep"],
    queryFn: () => all((page) => api.GET("/api/v1/upkeep", { params: { query: page } }), 20_000),
  });
  const counts = new Map<string, number>();
  for (const account of accounts.data ?? [])
    counts.set(account.check_outcome ?? "", (counts.get(account.check_outcome ?? "") ?? 0) + 1);
  return (
    <Page
      title="Accounts"
      note="Accounts on devices, whether the stored password opens them, and what comes next."
    >
      <ul className="flex flex-wrap gap-x-5 gap-y-1" aria-label="Accounts by their last check">
        {[...counts].sort().map(([word, count]) => (
          <li key={word} className="flex items-center gap-1">
            <State word={word} /> {count}
          </li>
        ))}
      </ul>
      <DataTable
        label="Accounts"
        columns={ACCOUNTS}
        id={(account) => account.credential}
        query={accounts}
        file="accounts.csv"
        bulk={(chosen, clear) => (
          <>
            <Act
              label={`Check ${chosen.length}`}
              run={() => forEach(chosen, check, "Checks").then(clear)}
              after={["jobs", "upkeep"]}
            />
            <Act
              label={`Rotate ${chosen.length}`}
              look="btn-sm btn-primary"
              run={() => forEach(chosen, rotate, "Rotations").then(clear)}
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

const JOBS: Column<Job>[] = [
  whenColumn("queued", "Queued", (job) => job.queued_at),
  { name: "task", head: "Job", value: (job) => job.task, choices: true },
  credentialColumn(
    (job) => job.credential,
    (job) => job.credential_path,
  ),
  { name: "device", head: "Device", value: (job) => job.device, choices: true },
  stateColumn("state", "State", stateOf),
  { name: "why", head: "Why", value: (job) => CAUSES[job.cause] ?? job.cause, choices: true },
  {
    name: "message",
    head: "Message",
    value: (job) => job.message,
    cell: (job) => (
      <span className="flex items-start justify-between gap-2">
        <span className="max-w-md">{job.message}</span>
        {job.state === "failed" && (
          <Act
            label="Try again"
            of={job.credential_path}
            look="btn-xs"
            run={job.task === "check" ? check(job.credential) : rotate(job.credential)}
            after={["jobs", "upkeep"]}
          />
        )}
      </span>
    ),
  },
];

export function Jobs() {
  const jobs = useQuery({
    queryKey: ["jobs"],
    queryFn: () => all((page) => api.GET("/api/v1/jobs", { params: { query: page } }), 1000),
  });
  return (
    <Page title="Jobs" note="Checks and rotations, newest first; the list follows them by itself.">
      <DataTable
        label="Jobs"
        columns={JOBS}
        id={(job) => job.id}
        query={jobs}
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
