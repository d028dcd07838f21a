// How far something is, and what comes next.

import { CircleCheck, CircleDashed } from "lucide-react";
import { Link } from "wouter";

/** A bar; without a whole it only says that something is under way. */
export function Progress({
  label,
  value,
  of,
  className = "w-40",
}: {
  label: string;
  value: number;
  of: number | undefined;
  className?: string;
}) {
  return (
    <progress
      className={`progress progress-primary ${className}`}
      value={value}
      max={of}
      aria-label={label}
    />
  );
}

export interface Step {
  done: boolean;
  what: string;
  /** Where it is done. */
  label: string;
  to: string;
}

/** Steps of which some are done. */
export function Steps({ steps }: { steps: Step[] }) {
  return (
    <ol className="flex flex-col">
      {steps.map(({ done, what, label, to }) => (
        <li key={what} className="flex h-9 items-center gap-2">
          {done ? (
            <CircleCheck className="size-4 text-success" aria-label="done" />
          ) : (
            <CircleDashed className="quiet size-4" aria-label="to do" />
          )}
          <span className={done ? "quiet grow line-through" : "grow"}>{what}</span>
          {!done && (
            <Link href={to} className="btn btn-sm">
              {label}
            </Link>
          )}
        </li>
      ))}
    </ol>
  );
}
