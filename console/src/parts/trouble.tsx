// What went wrong, and what to do.

import { CircleAlert } from "lucide-react";
import { Problem } from "../api";

/** An error where it happened: what happened, what to do, and a way to try again where there is one. */
export function Trouble({ error, retry }: { error: unknown; retry?: () => void }) {
  if (!error) return null;
  const problem =
    error instanceof Problem ? error : new Problem("", 0, String(error), "Try again.", {});
  return (
    <div
      role="alert"
      className="my-2 flex gap-2 rounded-field border border-error/40 bg-error/5 px-3 py-2"
    >
      <CircleAlert className="mt-0.5 size-4 shrink-0 text-error" aria-hidden="true" />
      <div>
        <p className="font-semibold">{problem.detail}</p>
        <p>{problem.advice}</p>
        {retry && (
          <button type="button" className="link" onClick={retry}>
            Try again
          </button>
        )}
      </div>
    </div>
  );
}
