// The table of every list: sorted by its heads, filtered from its heads and by words, columns chosen,
// many rows selected, written as CSV. What is chosen stands in the address, so that a link leads a
// colleague to the same view. Rows beyond a screenful are drawn as they are scrolled to.

import { Popover } from "@base-ui/react/popover";
import {
  type ColumnDef,
  type RowData,
  columnFilteringFeature,
  columnVisibilityFeature,
  createFilteredRowModel,
  createSortedRowModel,
  globalFilteringFeature,
  rowSelectionFeature,
  rowSortingFeature,
  tableFeatures,
  useTable,
} from "@tanstack/react-table";
import { useVirtualizer } from "@tanstack/react-virtual";
import {
  ArrowDown,
  ArrowUp,
  Columns3,
  Download,
  ListFilter,
  Rows3,
  Search as Magnifier,
  X,
} from "lucide-react";
import { type ReactNode, useDeferredValue, useMemo, useRef, useState } from "react";
import { Empty, Skeleton } from "./empty";
import { keepFile } from "./file";
import { useQueryPart } from "./tabs";
import { Trouble } from "./trouble";

export interface Column<T> {
  /** Its name in the address and in CSV. */
  name: string;
  head: string;
  /** What it sorts, filters and is written by. */
  value: (row: T) => string | number;
  cell?: (row: T) => ReactNode;
  /** Numbers align. */
  right?: boolean;
  /** It is filtered by choosing among its values. */
  choices?: boolean;
  /** Shown only when it is chosen. */
  extra?: boolean;
}

const features = tableFeatures({
  rowSortingFeature,
  columnFilteringFeature,
  globalFilteringFeature,
  columnVisibilityFeature,
  rowSelectionFeature,
  filteredRowModel: createFilteredRowModel(),
  sortedRowModel: createSortedRowModel(),
});

const order = new Intl.Collator(undefined, { numeric: true, sensitivity: "base" });
const ROW = 45;
/** Beyond this the rows are drawn as they are scrolled to. */
const MANY = 150;

/** A cell of CSV (RFC 4180); what a spreadsheet would take for a formula is text. */
function cellOf(value: string | number): string {
  const text = String(value);
  const safe = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}

function HeadFilter({
  column,
  values,
  chosen,
  choose,
}: {
  column: { head: string; choices?: boolean };
  values: string[];
  chosen: string[];
  choose: (next: string[]) => void;
}) {
  return (
    <Popover.Root>
      <Popover.Trigger
        className={`cursor-pointer rounded-selector p-1 hover:bg-base-300 ${chosen.length > 0 ? "text-primary" : "quiet"}`}
        aria-label={`Filter by ${column.head}`}
      >
        <ListFilter className="size-3.5" aria-hidden="true" />
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Positioner sideOffset={4} align="start" className="z-50">
          <Popover.Popup className="max-h-80 w-60 overflow-y-auto rounded-box border border-base-300 bg-base-100 p-3 outline-none">
            <Popover.Title className="mb-2 font-semibold">{column.head}</Popover.Title>
            {column.choices ? (
              <div className="flex flex-col gap-1">
                {values.map((value) => (
                  <label key={value} className="flex cursor-pointer items-center gap-2">
                    <input
                      type="checkbox"
                      className="checkbox checkbox-xs"
                      checked={chosen.includes(value)}
                      onChange={() =>
                        choose(
                          chosen.includes(value)
                            ? chosen.filter((other) => other !== value)
                            : [...chosen, value],
                        )
                      }
                    />
                    {value || "none"}
                  </label>
                ))}
              </div>
            ) : (
              <input
                className="input input-sm w-full"
                aria-label={`${column.head} contains`}
                placeholder="contains"
                value={chosen[0] ?? ""}
                onChange={(event) => choose(event.target.value ? [event.target.value] : [])}
              />
            )}
          </Popover.Popup>
        </Popover.Positioner>
      </Popover.Portal>
    </Popover.Root>
  );
}

/** A list of `name:value` in the address. */
function readFilters(text: string): Map<string, string[]> {
  const found = new Map<string, string[]>();
  for (const [name, value] of new URLSearchParams(text)) {
    found.set(name, [...(found.get(name) ?? []), value]);
  }
  return found;
}

function writeFilters(filters: Map<string, string[]>): string {
  const out = new URLSearchParams();
  for (const [name, values] of filters) for (const value of values) out.append(name, value);
  return out.toString();
}

export function DataTable<T extends RowData>({
  label,
  rows,
  columns,
  id,
  empty,
  error,
  retry,
  file,
  part = "",
  tools,
  bulk,
  here,
}: {
  /** What a screen reader hears, and what one row is called. */
  label: string;
  rows: T[] | undefined;
  columns: Column<T>[];
  id: (row: T) => string;
  /** What is shown where there is no row at all. */
  empty: ReactNode;
  error?: unknown;
  retry?: () => void;
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
  const [sort, setSort] = useQueryPart(`${part}sort`);
  const [words, setWords] = useQueryPart(`${part}q`);
  const [filterText, setFilterText] = useQueryPart(`${part}filter`);
  const [columnText, setColumnText] = useQueryPart(`${part}columns`);
  const [selection, setSelection] = useState<Record<string, true>>({});
  const [compact, setCompact] = useState(localStorage.getItem("density") === "compact");
  const box = useRef<HTMLDivElement>(null);
  const typed = useDeferredValue(words);
  const filters = useMemo(() => readFilters(filterText), [filterText]);
  const shown = useMemo(() => {
    const chosen = columnText.split(",").filter(Boolean);
    return new Set(
      chosen.length > 0
        ? chosen
        : columns.filter((column) => !column.extra).map((column) => column.name),
    );
  }, [columnText, columns]);
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
      rowSelection: selection,
    },
  });
  const found = table.getRowModel().rows;
  const visible = columns.filter((column) => shown.has(column.name));
  const virtual = useVirtualizer({
    count: found.length,
    getScrollElement: () => box.current,
    estimateSize: () => (compact ? 29 : ROW),
    overscan: 12,
    enabled: found.length > MANY,
  });
  const many = found.length > MANY;
  const drawn = many ? virtual.getVirtualItems().flatMap((item) => found[item.index] ?? []) : found;
  const before = many ? (virtual.getVirtualItems()[0]?.start ?? 0) : 0;
  const after = many ? virtual.getTotalSize() - (virtual.getVirtualItems().at(-1)?.end ?? 0) : 0;
  const chosen = found.filter((row) => selection[row.id]).map((row) => row.original);
  const setFilter = (name: string, values: string[]) => {
    const next = new Map(filters);
    if (values.length > 0) next.set(name, values);
    else next.delete(name);
    setFilterText(writeFilters(next));
  };
  const write = () => {
    const lines = [visible.map((column) => cellOf(column.head))];
    for (const row of found)
      lines.push(visible.map((column) => cellOf(column.value(row.original))));
    const text = lines.map((line) => line.join(",")).join("\r\n");
    keepFile(new Blob([`${text}\r\n`], { type: "text/csv" }), file);
  };
  if (error) return <Trouble error={error} {...(retry && { retry })} />;
  if (!rows) return <Skeleton rows={6} />;
  if (rows.length === 0) return <>{empty}</>;
  const all = found.length > 0 && chosen.length === found.length;
  return (
    <div className={`flex min-h-0 flex-col gap-3 ${compact ? "compact" : ""}`}>
      <div className="flex flex-wrap items-center gap-2">
        <label className="input input-sm w-56">
          <Magnifier className="quiet size-4" aria-hidden="true" />
          <span className="sr-only">Search in {label}</span>
          <input
            value={words}
            placeholder="Search in this list"
            onChange={(event) => setWords(event.target.value)}
          />
        </label>
        {[...filters].map(([name, values]) => (
          <button
            key={name}
            type="button"
            className="btn btn-sm"
            aria-label={`Clear the filter on ${name}`}
            onClick={() => setFilter(name, [])}
          >
            <ListFilter className="size-3.5" aria-hidden="true" />
            {columns.find((column) => column.name === name)?.head}: {values.join(", ")}
            <X className="size-3.5" aria-hidden="true" />
          </button>
        ))}
        <span className="quiet" role="status">
          {found.length === rows.length ? `${rows.length}` : `${found.length} of ${rows.length}`}
        </span>
        <div className="ml-auto flex flex-wrap items-center gap-1">
          {tools}
          <Popover.Root>
            <Popover.Trigger className="btn btn-ghost btn-sm" aria-label="Choose columns">
              <Columns3 className="size-4" aria-hidden="true" />
              <span className="max-lg:sr-only">Columns</span>
            </Popover.Trigger>
            <Popover.Portal>
              <Popover.Positioner sideOffset={4} align="end" className="z-50">
                <Popover.Popup className="flex flex-col gap-1 rounded-box border border-base-300 bg-base-100 p-3 outline-none">
                  <Popover.Title className="mb-1 font-semibold">Columns</Popover.Title>
                  {columns.map((column) => (
                    <label key={column.name} className="flex cursor-pointer items-center gap-2">
                      <input
                        type="checkbox"
                        className="checkbox checkbox-xs"
                        checked={shown.has(column.name)}
                        onChange={() => {
                          const next = columns
                            .map((each) => each.name)
                            .filter((name) => (name === column.name) !== shown.has(name));
                          if (next.length > 0) setColumnText(next.join(","));
                        }}
                      />
                      {column.head}
                    </label>
                  ))}
                </Popover.Popup>
              </Popover.Positioner>
            </Popover.Portal>
          </Popover.Root>
          <button
            type="button"
            className="btn btn-ghost btn-sm"
            aria-pressed={compact}
            aria-label="Compact rows"
            title="Compact rows"
            onClick={() => {
              localStorage.setItem("density", compact ? "comfortable" : "compact");
              setCompact(!compact);
            }}
          >
            <Rows3 className="size-4" aria-hidden="true" />
          </button>
          <button
            type="button"
            className="btn btn-ghost btn-sm"
            aria-label="Export as CSV"
            title="Export as CSV"
            onClick={write}
          >
            <Download className="size-4" aria-hidden="true" />
          </button>
        </div>
      </div>
      <div className="min-h-0 overflow-clip rounded-box border border-base-300 bg-base-100">
        <div
          ref={box}
          className={`overflow-auto ${many ? "h-[65dvh]" : ""}`}
          role="region"
          aria-label={label}
          tabIndex={0}
        >
          <table className="table table-sm">
            <thead className="sticky top-0 z-10 bg-base-100">
              <tr>
                {bulk && (
                  <th scope="col" className="w-8">
                    <input
                      type="checkbox"
                      className="checkbox checkbox-xs"
                      aria-label="Select all"
                      checked={all}
                      onChange={() =>
                        setSelection(
                          all
                            ? {}
                            : Object.fromEntries(found.map((row) => [row.id, true as const])),
                        )
                      }
                    />
                  </th>
                )}
                {visible.map((column) => {
                  const up = sort === column.name;
                  const down = sort === `-${column.name}`;
                  const Arrow = down ? ArrowDown : ArrowUp;
                  return (
                    <th
                      key={column.name}
                      scope="col"
                      aria-sort={up ? "ascending" : down ? "descending" : undefined}
                      className={column.right ? "text-right" : ""}
                    >
                      <span className="inline-flex items-center gap-0.5">
                        <button
                          type="button"
                          className="flex cursor-pointer items-center gap-1 font-semibold hover:underline"
                          onClick={() => setSort(up ? `-${column.name}` : column.name)}
                        >
                          {column.head}
                          {(up || down) && <Arrow className="size-3.5" aria-hidden="true" />}
                        </button>
                        <HeadFilter
                          column={column}
                          values={
                            column.choices
                              ? [...new Set(rows.map((row) => String(column.value(row))))].sort(
                                  order.compare,
                                )
                              : []
                          }
                          chosen={filters.get(column.name) ?? []}
                          choose={(next) => setFilter(column.name, next)}
                        />
                      </span>
                    </th>
                  );
                })}
              </tr>
            </thead>
            <tbody>
              {before > 0 && <tr aria-hidden="true" style={{ height: before }} />}
              {drawn.map((row) => (
                <tr
                  key={row.id}
                  className={
                    selection[row.id] || here?.(row.original) ? "bg-secondary" : "hover:bg-base-200"
                  }
                >
                  {bulk && (
                    <td>
                      <input
                        type="checkbox"
                        className="checkbox checkbox-xs"
                        aria-label={`Select ${columns[0]?.value(row.original)}`}
                        checked={selection[row.id] ?? false}
                        onChange={() =>
                          setSelection(({ [row.id]: was, ...others }) =>
                            was ? others : { ...others, [row.id]: true },
                          )
                        }
                      />
                    </td>
                  )}
                  {visible.map((column) => (
                    <td key={column.name} className={column.right ? "text-right tabular-nums" : ""}>
                      {column.cell ? column.cell(row.original) : column.value(row.original)}
                    </td>
                  ))}
                </tr>
              ))}
              {after > 0 && <tr aria-hidden="true" style={{ height: after }} />}
            </tbody>
          </table>
          {found.length === 0 && (
            <div className="px-3">
              <Empty>Nothing in this list matches. Clear the search or a filter.</Empty>
            </div>
          )}
        </div>
        {bulk && chosen.length > 0 && (
          <div className="sticky bottom-0 z-10 flex flex-wrap items-center justify-between gap-2 border-t border-base-300 bg-secondary px-3 py-2">
            <span className="font-semibold text-primary">{chosen.length} selected</span>
            <div className="flex flex-wrap items-center gap-2">
              {bulk(chosen, () => setSelection({}))}
              <button
                type="button"
                className="btn btn-ghost btn-sm"
                onClick={() => setSelection({})}
              >
                Clear
              </button>
            </div>
          </div>
        )}
      </div>
    </div>
  );
}
