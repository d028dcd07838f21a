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

/** An account that a job can be added for. */
interface Account {
  credential: string;
  path: string;
}

/** The account of a credential. */
export const accountOf = (item: CredentialItem) => ({
  credential: item.id,
  path: `${item.place}/${item.name}`,
});

/** Adds a job for each of many accounts, and shows how many were queued. */
export async function addJobs(task: "check" | "rotation", accounts: Account[]): Promise<void> {
  const paths = new Map(accounts.map((account) => [account.credential, account.path]));
  const results = [];
  for (let from = 0; from < accounts.length; from += MAX_CREDENTIALS) {
    const credentials = accounts
      .slice(from, from + MAX_CREDENTIALS)
      .map((account) => account.credential);
    // One after the other, so that the jobs begin in the order of the list.
    // oxlint-disable-next-line no-await-in-loop
    const answer = await result(api.POST("/api/v1/jobs", { body: { task, credentials } }));
    results.push(...answer.items);
  }
  const refused = results.flatMap(({ credential, problem }) =>
    problem ? [`${paths.get(credential)}: ${problem.detail}`] : [],
  );
  const what = task === "check" ? "checks" : "rotations";
  const queued = results.length - refused.length;
  const first = refused.slice(0, MAX_SHOWN).join(" ");
  const others = refused.length - MAX_SHOWN;
  told(
    [
      refused.length > 0
        ? `${queued} of ${results.length} ${what} are queued.`
        : `${queued} ${queued === 1 ? what.slice(0, -1) : what} queued.`,
      first,
      others > 0 ? `And ${others} more.` : "",
    ]
      .filter(Boolean)
      .join(" "),
  );
}

/** The most credentials that the service takes in one request. */
const MAX_CREDENTIALS = 1000;
/** The most refusals that are shown. */
const MAX_SHOWN = 5;

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
