// Upkeep: the accounts, the live jobs, the plans.

import { useQuery } from "@tanstack/react-query";
import { type Job, type Plan, api, result, wholeList, all } from "../api";
import { Act, Card, Empty, State, Table, Trouble, When } from "../components";
import { Devices } from "./devices";
import { CredentialLink } from "./credential-link";

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

export function Upkeep() {
  const accounts = useQuery({
    queryKey: ["upkeep"],
    queryFn: () => all((page) => api.GET("/api/v1/upkeep", { params: { query: page } }), 2000),
  });
  const jobs = useQuery({
    queryKey: ["jobs"],
    queryFn: () => result(api.GET("/api/v1/jobs", { params: { query: { limit: 60 } } })),
  });
  const plans = useQuery({
    queryKey: ["plans"],
    queryFn: () => wholeList(api.GET("/api/v1/plans")),
  });
  const counts = new Map<string, number>();
  for (const account of accounts.data ?? [])
    counts.set(account.check_outcome ?? "", (counts.get(account.check_outcome ?? "") ?? 0) + 1);
  return (
    <div className="flex flex-col gap-3">
      <h1 className="text-xl font-semibold">Upkeep</h1>
      <Trouble error={accounts.error ?? jobs.error ?? plans.error} />
      <Card
        title="Accounts on devices"
        actions={
          <span className="flex flex-wrap gap-4">
            {[...counts].sort().map(([word, count]) => (
              <span key={word}>
                {count} {word ? <State word={word} /> : "not checked yet"}
              </span>
            ))}
          </span>
        }
      >
        {accounts.data?.length === 0 && (
          <Empty>
            No credential is an account on a device yet. Set the device of a credential in the
            vault, and it is listed here.
          </Empty>
        )}
        {accounts.data && accounts.data.length > 0 && (
          <Table
            label="Accounts"
            heads={[
              "Credential",
              "Device",
              "Last check",
              "Checked",
              "Rotated",
              "Next check",
              "Next rotation",
              "Actions",
            ]}
          >
            {accounts.data.map((account) => (
              <tr key={account.credential}>
                <td>
                  <CredentialLink id={account.credential} path={account.credential_path} />
                </td>
                <td>{account.device}</td>
                <td>
                  <State word={account.check_outcome} />
                </td>
                <td>
                  <When at={account.checked_at} />
                </td>
                <td>
                  <When at={account.rotated_at} />
                  {account.rotation_owed_at && <State word="owed" />}
                </td>
                <td>
                  <When at={account.next_check_at} />
                </td>
                <td>
                  <When at={account.next_rotation_at} />
                </td>
                <td>
                  <Act
                    label="Check now"
                    look="btn-xs"
                    run={() =>
                      result(
                        api.POST("/api/v1/credentials/{credential}/check", {
                          params: { path: { credential: account.credential } },
                        }),
                      )
                    }
                    after={["jobs"]}
                  />
                </td>
              </tr>
            ))}
          </Table>
        )}
      </Card>
      <Devices />
      <Card title="Plans">
        {plans.data?.length === 0 && (
          <Empty>
            There is no plan yet. Open a folder in the vault and set one: it counts for everything
            below.
          </Empty>
        )}
        <ul>
          {plans.data?.map((plan) => (
            <li key={plan.id} className="py-1">
              <strong>{plan.place}</strong> {planWords(plan)}
            </li>
          ))}
        </ul>
      </Card>
      <Card title="Jobs, newest first">
        {jobs.data?.items.length === 0 && <Empty>No job has run yet.</Empty>}
        {jobs.data && jobs.data.items.length > 0 && <JobRows jobs={jobs.data.items} />}
      </Card>
    </div>
  );
}
