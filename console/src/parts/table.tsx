// A table of a few rows, inside of something else. Lists are in data-table.tsx.

import type { ReactNode } from "react";

export function Table({
  heads,
  children,
  label,
}: {
  heads: string[];
  children: ReactNode;
  label: string;
}) {
  return (
    <div className="overflow-x-auto" role="region" aria-label={label} tabIndex={0}>
      <table className="table table-sm">
        <thead>
          <tr>
            {heads.map((head) => (
              <th key={head} scope="col">
                {head}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </table>
    </div>
  );
}
