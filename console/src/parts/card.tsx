// A part of a page with a heading of its own.

import { type ReactNode, useId } from "react";

export function Card({
  title,
  count,
  actions,
  children,
}: {
  title: string;
  count?: number | undefined;
  actions?: ReactNode;
  children: ReactNode;
}) {
  const id = useId();
  return (
    <section
      aria-labelledby={id}
      className="min-w-0 rounded-box border border-base-300 bg-base-100"
    >
      <div className="flex min-h-10 flex-wrap items-center justify-between gap-2 border-b border-base-300 px-3 py-1.5">
        <h2 id={id} className="flex items-center gap-2 font-semibold">
          {title}
          {count !== undefined && count > 0 && <Count waits>{count}</Count>}
        </h2>
        {actions}
      </div>
      <div className="px-3 py-2">{children}</div>
    </section>
  );
}

/** How many there are; in the colour of what waits, if it does. */
export function Count({ children, waits }: { children: ReactNode; waits?: boolean }) {
  return (
    <span
      className={`rounded-selector px-1.5 text-xs font-semibold tabular-nums ${waits ? "bg-accent text-accent-content" : ""}`}
    >
      {children}
    </span>
  );
}
