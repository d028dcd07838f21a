// The jobs of one credential or device.

import { type Job, api, result } from "../api";
import { Act, CredentialLink, State, Table, When } from "../parts";

/** Why a job was queued, in words. */
export const CAUSES: Record<string, string> = {
  person: "asked for",
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
