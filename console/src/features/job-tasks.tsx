// What a job can be asked to do with an account.

import { type Job, api, result } from "../api";
import { Act } from "../parts";

const of = (credential: string) => ({ params: { path: { credential } } });

export const check = (credential: string) => () =>
  result(api.POST("/api/v1/credentials/{credential}/check", of(credential)));

export const rotate = (credential: string) => () =>
  result(api.POST("/api/v1/credentials/{credential}/rotate", { ...of(credential), body: {} }));

/** Goes as far as a rotation can without changing anything. */
export const rehearse = (credential: string) => () =>
  result(api.POST("/api/v1/credentials/{credential}/rehearse", { ...of(credential), body: {} }));

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
