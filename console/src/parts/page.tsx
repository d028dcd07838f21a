// The head of a page: where one is, what it is, the one action that matters, the rest in a menu.

import { ChevronRight } from "lucide-react";
import type { ReactNode } from "react";
import { Link } from "wouter";

export function Page({
  title,
  note,
  crumbs = [],
  actions,
  children,
}: {
  title: string;
  note?: ReactNode;
  crumbs?: [string, string][];
  actions?: ReactNode;
  children: ReactNode;
}) {
  return (
    <div className="mx-auto flex w-full max-w-[110rem] flex-col gap-4 p-5 max-sm:p-3">
      <div className="flex flex-wrap items-end justify-between gap-x-4 gap-y-2">
        <div>
          {crumbs.length > 0 && <Crumbs crumbs={crumbs} />}
          <h1 className="text-xl leading-tight font-semibold">{title}</h1>
          {note && <p className="quiet">{note}</p>}
        </div>
        {actions && <div className="flex flex-wrap items-center gap-2">{actions}</div>}
      </div>
      {children}
    </div>
  );
}

/** The way to what is shown: names and where they lead. */
export function Crumbs({ crumbs }: { crumbs: [string, string][] }) {
  return (
    <nav aria-label="Breadcrumbs">
      <ol className="quiet flex flex-wrap items-center gap-1 text-sm">
        {crumbs.map(([name, to], at) => (
          <li key={to} className="flex items-center gap-1">
            {at > 0 && <ChevronRight className="size-3.5" aria-hidden="true" />}
            <Link href={to} className="hover:underline">
              {name}
            </Link>
          </li>
        ))}
      </ol>
    </nav>
  );
}
