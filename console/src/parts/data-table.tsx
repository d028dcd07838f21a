// A table whose rows are all here: sorted and filtered in the browser.

import {
  type ColumnDef,
  type RowData,
  columnFilteringFeature,
  columnVisibilityFeature,
  createFilteredRowModel,
  createSortedRowModel,
  globalFilteringFeature,
  rowSortingFeature,
  tableFeatures,
  useTable,
} from "@tanstack/react-table";
import type { UseQueryResult } from "@tanstack/react-query";
import { type ReactNode, useCallback, useDeferredValue, useMemo } from "react";
import { Skeleton } from "./empty";
import { type Column, order, useTableState } from "./table-state";
import { TableView } from "./table-view";
import { Trouble } from "./trouble";

export type { Column } from "./table-state";

const features = tableFeatures({
  rowSortingFeature,
  columnFilteringFeature,
  globalFilteringFeature,
  columnVisibilityFeature,
  filteredRowModel: createFilteredRowModel(),
  sortedRowModel: createSortedRowModel(),
});

export function DataTable<T extends RowData>({
  label,
  query,
  rows = query?.data,
  columns,
  id,
  empty,
  file,
  part = "",
  tools,
  bulk,
  here,
}: {
  /** What a screen reader hears. */
  label: string;
  /** Where the rows come from, with its errors. */
  query?: Pick<UseQueryResult<unknown>, "error" | "refetch"> & { data?: T[] | undefined };
  /** The rows, where they are not as the query has them. */
  rows?: T[] | undefined;
  columns: Column<T>[];
  id: (row: T) => string;
  /** What is shown where there is no row at all. */
  empty: ReactNode;
  /** The name of the file of CSV. */
  file: string;
  /** Tells several tables of a page apart in the address. */
  part?: string;
  tools?: ReactNode;
  /** What can be done with the selected rows. */
  bulk?: (rows: T[], clear: () => void) => ReactNode;
  /** Whether a row is the one that is open beside the table. */
  here?: (row: T) => boolean;
}) {
  const state = useTableState(columns, part);
  const { sort, filters, shown } = state;
  const typed = useDeferredValue(state.words);
  const definitions = useMemo(
    () =>
      columns.map((column): ColumnDef<typeof features, T> => ({
        id: column.name,
        accessorFn: column.value,
        sortFn: (one, other, name) => {
          const [a, b] = [one.getValue(name), other.getValue(name)];
          return typeof a === "number" && typeof b === "number"
            ? a - b
            : order.compare(String(a), String(b));
        },
        filterFn: (row, name, wanted) => {
          const value = String(row.getValue(name));
          const list = wanted as string[];
          return column.choices
            ? list.includes(value)
            : value.toLowerCase().includes((list[0] ?? "").toLowerCase());
        },
      })),
    [columns],
  );
  const none = useMemo<T[]>(() => [], []);
  const table = useTable({
    features,
    columns: definitions,
    data: rows ?? none,
    getRowId: id,
    enableSortingRemoval: false,
    globalFilterFn: (row, name, wanted) =>
      String(row.getValue(name)).toLowerCase().includes(String(wanted).toLowerCase()),
    state: {
      sorting: sort ? [{ id: sort.replace(/^-/, ""), desc: sort.startsWith("-") }] : [],
      columnFilters: [...filters].map(([name, value]) => ({ id: name, value })),
      globalFilter: typed,
      columnVisibility: Object.fromEntries(
        columns.map((column) => [column.name, shown.has(column.name)]),
      ),
    },
  });
  const found = table.getRowModel().rows;
  const at = useCallback((index: number) => found[index]?.original, [found]);
  if (query?.error) return <Trouble error={query.error} retry={() => void query.refetch()} />;
  if (!rows) return <Skeleton rows={6} />;
  if (rows.length === 0) return <>{empty}</>;
  return (
    <TableView
      label={label}
      rows={{
        count: found.length,
        of: rows.length,
        at,
        all: () => found.map((row) => row.original),
      }}
      columns={columns}
      state={state}
      values={(column) =>
        [...new Set(rows.map((row) => String(column.value(row))))].sort(order.compare)
      }
      id={id}
      file={file}
      tools={tools}
      bulk={bulk}
      here={here}
    />
  );
}
