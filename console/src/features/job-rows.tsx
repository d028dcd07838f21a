// The jobs of one credential or device.

import { useQuery } from "@tanstack/react-query";
import { type Job, api, result } from "../api";
import { Act, CredentialLink, DrawerButton, Skeleton, State, Table, Trouble, When } from "../parts";

/** Why a job was queued, in words. */
export const CAUSES: Record<string, string> = {
  person: "asked for",
  plan: "by the plan",
  "out-of-sync": "was out of sync",
  return: "after a checkout",
};

/** What was said and heard in a job, without secrets. */
function Transcript({ job }: { job: Job }) {
  return (
    <DrawerButton
      label="Transcript"
      more={`of the ${job.task} of ${job.credential_path}`}
      title={`${job.task} of ${job.credential_path}`}
      note="What the device wrote, and what was typed. Secrets are left out."
      look="btn-xs btn-ghost"
      wide
    >
      {() => <TranscriptText id={job.id} />}
    </DrawerButton>
  );
}

function TranscriptText({ id }: { id: string }) {
  const read = useQuery({
    queryKey: ["jobs", id, "transcript"],
    queryFn: () =>
      result(api.GET("/api/v1/jobs/{job}/transcript", { params: { path: { job: id } } })),
  });
  if (!read.data) return read.error ? <Trouble error={read.error} /> : <Skeleton />;
  return (
    <pre className="rounded-box border border-base-300 bg-base-200 p-3 font-mono text-[0.8125rem] break-words whitespace-pre-wrap">
      {read.data.text.trim()}
    </pre>
  );
}

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
            {job.has_transcript && <Transcript job={job} />}
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
