// What a job can be asked to do with an account.

import { type CredentialItem, type Job, api, result } from "../api";
import { Act, told } from "../parts";

const of = (credential: string) => ({ params: { path: { credential } } });

export const check = (credential: string) => () =>
  result(api.POST("/api/v1/credentials/{credential}/check", of(credential)));

export const rotate = (credential: string) => () =>
  result(api.POST("/api/v1/credentials/{credential}/rotate", { ...of(credential), body: {} }));

/** Goes as far as a rotation can without changing anything. */
export const rehearse = (credential: string) => () =>
  result(api.POST("/api/v1/credentials/{credential}/rehearse", { ...of(credential), body: {} }));

/** A credential as one that a job is asked for. */
export const asAsked = (item: CredentialItem) => ({
  credential: item.id,
  path: `${item.place}/${item.name}`,
});

/** Asks for the same of many accounts in one request, and says what came of it. */
export async function askForJobs(
  task: "check" | "rotation",
  rows: { credential: string; path: string }[],
): Promise<void> {
  const paths = new Map(rows.map((row) => [row.credential, row.path]));
  const asked = [];
  for (let from = 0; from < rows.length; from += MOST_AT_ONCE) {
    const credentials = rows.slice(from, from + MOST_AT_ONCE).map((row) => row.credential);
    // One after the other: what a person asks for begins in the order of the rows.
    // oxlint-disable-next-line no-await-in-loop
    const answer = await result(api.POST("/api/v1/jobs", { body: { task, credentials } }));
    asked.push(...answer.items);
  }
  const refused = asked.flatMap(({ credential, problem }) =>
    problem ? [`${paths.get(credential)}: ${problem.detail}`] : [],
  );
  const what = task === "check" ? "checks" : "rotations";
  const queued = asked.length - refused.length;
  const first = refused.slice(0, MOST_TOLD).join(" ");
  const others = refused.length - MOST_TOLD;
  told(
    [
      refused.length > 0
        ? `${queued} of ${asked.length} ${what} are queued.`
        : `${queued} ${queued === 1 ? what.slice(0, -1) : what} queued.`,
      first,
      others > 0 ? `And ${others} more.` : "",
    ]
      .filter(Boolean)
      .join(" "),
  );
}

/** For so many accounts the service takes a job in one request. */
const MOST_AT_ONCE = 1000;
/** Of so many that are refused it is told why. */
const MOST_TOLD = 5;

const TASKS: Record<string, (credential: string) => () => Promise<Job>> = {
  check,
  rotation: rotate,
  rehearsal: rehearse,
};

/** Asks for the same once more, where it is asked for by account. */
export function TryAgain({ job, look }: { job: Job; look?: string }) {
  const task = TASKS[job.task];
  if (!task) return null;
  return (
    <Act
      label="Try again"
      of={`the ${job.task} of ${job.credential_path}`}
      look={look}
      run={task(job.credential)}
      after={["overview", "jobs", "upkeep"]}
    />
  );
}
