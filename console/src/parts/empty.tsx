// Places where there is nothing yet, and places where it is still on its way.

import type { ReactNode } from "react";

/** An empty place that teaches the next step. */
export function Empty({ children, action }: { children: ReactNode; action?: ReactNode }) {
  return (
    <div className="flex flex-col items-start gap-2 px-1 py-3">
      <p className="quiet max-w-prose">{children}</p>
      {action}
    </div>
  );
}

/** The shape of what comes. */
export function Skeleton({ rows = 4 }: { rows?: number }) {
  return (
    <div role="status" aria-label="Loading" className="flex flex-col gap-2 py-2">
      {Array.from({ length: rows }, (_, row) => `row ${row}`).map((row) => (
        <div key={row} className="skeleton h-5 w-full" />
      ))}
    </div>
  );
}
