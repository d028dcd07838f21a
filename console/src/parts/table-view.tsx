// How every table looks, wherever its rows come from: sorted and filtered from its heads, columns
// chosen, many rows selected, written as CSV. Rows beyond a screenful are drawn as they are scrolled
// to.

import { Popover } from "@base-ui/react/popover";
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
import {
  type ReactNode,
  type RefObject,
  memo,
  useCallback,
  useEffect,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
} from "react";
import { inBlocks } from "./blocks";
import { Empty } from "./empty";
import { keepFile } from "./file";
import { SavedViews } from "./saved-views";
import { type Column, type TableState, filterWords } from "./table-state";

const ROW = 45;
const COMPACT = 29;
/** Beyond this the rows are drawn as they are scrolled to. */
const MANY = 150;

/** A cell of CSV (RFC 4180); what a spreadsheet would take for a formula is text. */
function cellOf(value: string | number): string {
  const text = String(value);
  const safe = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}

/** Rows as CSV (RFC 4180). */
export function csvOf<T>(columns: Column<T>[], rows: T[]): Blob {
  const lines = [columns.map((column) => cellOf(column.head))];
  for (const row of rows) lines.push(columns.map((column) => cellOf(column.value(row))));
  const text = lines.map((line) => line.join(",")).join("\r\n");
  return new Blob([`${text}\r\n`], { type: "text/csv" });
}

function HeadFilter({
  column,
  values,
  chosen,
  choose,
}: {
  column: {
    head: string;
    choices?: boolean | string[];
    one?: boolean;
    days?: boolean;
    word?: (value: string) => string;
  };
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
                            : column.one
                              ? [value]
                              : [...chosen, value],
                        )
                      }
                    />
                    {(column.word?.(value) ?? value) || "none"}
                  </label>
                ))}
              </div>
            ) : column.days ? (
              <div className="flex flex-col gap-2">
                {["First day", "Last day"].map((label, place) => (
                  <label key={label} className="flex flex-col gap-1">
                    {label}
                    <input
                      type="date"
                      className="input input-sm w-full"
                      value={chosen[place] ?? ""}
                      min={place === 1 ? chosen[0] || undefined : undefined}
                      max={place === 0 ? chosen[1] || undefined : undefined}
                      onChange={(event) => {
                        const next = [chosen[0] ?? "", chosen[1] ?? ""];
                        next[place] = event.target.value;
                        choose(next.some(Boolean) ? next : []);
                      }}
                    />
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

interface LineProps<T> {
  row: T;
  id: string;
  columns: Column<T>[];
  selected: boolean;
  /** Nothing, where rows cannot be selected. */
  select: ((id: string, row: T) => void) | undefined;
  name: string;
  here: boolean;
}

/** A row that was drawn is drawn again only when it has changed itself. */
const Line = memo(function Line<T>({
  row,
  id,
  columns,
  selected,
  select,
  name,
  here,
}: LineProps<T>) {
  return (
    <tr className={selected || here ? "bg-secondary" : "hover:bg-base-200"}>
      {select && (
        <td>
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            aria-label={`Select ${name}`}
            checked={selected}
            onChange={() => select(id, row)}
          />
        </td>
      )}
      {columns.map((column, index) => (
        <td
          key={column.name}
          className={
            column.right ? "text-right tabular-nums" : index === 0 && !column.slim ? "min-w-44" : ""
          }
        >
          {column.cell ? column.cell(row) : column.value(row)}
        </td>
      ))}
    </tr>
  );
}) as <T>(props: LineProps<T>) => ReactNode;

/** The rows of a table; some may not have loaded yet. */
export interface Rows<T> {
  /** How many are shown, and of how many if that is known. */
  count: number;
  of?: number;
  /** Whether more follow than are counted. */
  more?: boolean;
  /** Nothing as long as it is on its way. */
  at: (index: number) => T | undefined;
  /** Which are looked at. */
  look?: (first: number, last: number) => void;
  /** What they are sorted by, where they follow the head of the table later. */
  sort?: string;
  /** All that are shown, to be selected or written. */
  all: () => T[] | Promise<T[]>;
}

/** The rows: they alone are drawn again while somebody scrolls. */
function Body<T>({
  rows,
  columns,
  id,
  box,
  height,
  selection,
  select,
  name,
  here,
  made,
}: {
  rows: Rows<T>;
  columns: Column<T>[];
  id: (row: T) => string;
  box: RefObject<HTMLDivElement | null>;
  height: number;
  selection: Map<string, T>;
  select: ((id: string, row: T) => void) | undefined;
  /** What a row is called by. */
  name: Column<T> | undefined;
  here: ((row: T) => boolean) | undefined;
  /** The columns and rows that widths are kept for. */
  made: string;
}) {
  const { count, look } = rows;
  const many = count > MANY;
  const virtual = useVirtualizer({
    count,
    getScrollElement: () => box.current,
    estimateSize: () => height,
    overscan: 12,
    rangeExtractor: inBlocks,
    enabled: many,
  });
  useEffect(() => virtual.measure(), [virtual, height]);
  const drawn = many
    ? virtual.getVirtualItems().map((item) => item.index)
    : Array.from({ length: count }, (_, index) => index);
  useKeptWidths(box, many, drawn.length > 0 && rows.at(drawn[0] ?? 0) !== undefined, made);
  const first = drawn[0] ?? 0;
  const last = drawn.at(-1) ?? 0;
  useEffect(() => look?.(first, last), [look, first, last]);
  const above = many ? first * height : 0;
  const below = many ? (count - last - 1) * height : 0;
  // The virtualizer renders at every row scrolled past; the rows change only when a block of them
  // is added or removed.
  const lines = useMemo(
    () =>
      Array.from({ length: last - first + 1 }, (_, place) => {
        const index = first + place;
        const row = rows.at(index);
        if (row === undefined)
          return (
            <tr key={`row ${index}`} style={{ height }}>
              <td colSpan={columns.length + (select ? 1 : 0)} aria-label="on its way">
                <div className="skeleton h-4 w-full" />
              </td>
            </tr>
          );
        const key = id(row);
        return (
          <Line
            key={key}
            id={key}
            row={row}
            columns={columns}
            selected={selection.has(key)}
            select={select}
            name={String(name?.value(row) ?? "")}
            here={here?.(row) ?? false}
          />
        );
      }),
    [rows, first, last, height, columns, select, id, selection, name, here],
  );
  return (
    <tbody>
      {above > 0 && <tr aria-hidden="true" style={{ height: above }} />}
      {drawn.length > 0 && lines}
      {below > 0 && <tr aria-hidden="true" style={{ height: below }} />}
    </tbody>
  );
}

/** Keeps the columns as wide as the first rows made them, so that those which are drawn later neither
 * move them nor have the whole table laid out again. */
function useKeptWidths(
  box: RefObject<HTMLDivElement | null>,
  many: boolean,
  drawn: boolean,
  made: string,
): void {
  useLayoutEffect(() => {
    const table = box.current?.querySelector("table");
    if (!table) return;
    const heads = [...table.querySelectorAll<HTMLElement>("thead th")];
    table.style.tableLayout = "";
    for (const head of heads) head.style.width = "";
    // For which columns, in which order, they are.
    table.dataset.widths = made;
    if (!many || !drawn) return;
    const widths = heads.map((head) => head.getBoundingClientRect().width);
    for (const [index, head] of heads.entries()) head.style.width = `${widths[index] ?? 0}px`;
    table.style.tableLayout = "fixed";
  }, [box, many, drawn, made]);
}

export function TableView<T>({
  label,
  rows,
  columns,
  state,
  values,
  id,
  file,
  tools,
  bulk,
  here,
}: {
  label: string;
  rows: Rows<T>;
  columns: Column<T>[];
  state: TableState<T>;
  /** What a column can be filtered by. */
  values: (column: Column<T>) => string[];
  id: (row: T) => string;
  file: string;
  tools?: ReactNode;
  bulk?: ((rows: T[], clear: () => void) => ReactNode) | undefined;
  here?: ((row: T) => boolean) | undefined;
}) {
  const { sort, filters, compact } = state;
  const { visible } = state;
  const [selection, setSelection] = useState<Map<string, T>>(new Map());
  const [busy, setBusy] = useState(false);
  const box = useRef<HTMLDivElement>(null);
  const { count } = rows;
  const many = count > MANY;
  // What is no longer shown is not acted upon.
  const asked = `${state.words} ${[...filters].join(" ")}`;
  const [before, setBefore] = useState(asked);
  if (asked !== before) {
    setBefore(asked);
    if (selection.size > 0) setSelection(new Map());
  }
  const made = `${visible.map((column) => column.name).join(" ")} ${compact} ${rows.sort ?? sort} ${asked}`;
  const select = useCallback((key: string, row: T) => {
    setSelection((was) => {
      const next = new Map(was);
      if (!next.delete(key)) next.set(key, row);
      return next;
    });
  }, []);
  const all = count > 0 && selection.size === count;
  const everything = async (then: (rows: T[]) => void) => {
    setBusy(true);
    try {
      then(await rows.all());
    } finally {
      setBusy(false);
    }
  };
  return (
    <div className={`flex min-h-0 flex-col gap-3 ${compact ? "compact" : ""}`}>
      <div className="flex flex-wrap items-center gap-2">
        <label className="input input-sm w-56">
          <Magnifier className="quiet size-4" aria-hidden="true" />
          <span className="sr-only">Search in {label}</span>
          <input
            value={state.words}
            placeholder="Search in this list"
            onChange={(event) => state.setWords(event.target.value)}
          />
        </label>
        {[...filters].map(([name, chosen]) => {
          const column = columns.find((each) => each.name === name);
          return (
            <button
              key={name}
              type="button"
              className="btn btn-sm"
              aria-label={`Clear the filter on ${name}`}
              onClick={() => state.setFilter(name, [])}
            >
              <ListFilter className="size-3.5" aria-hidden="true" />
              {column?.head ?? name}: {filterWords(column, chosen)}
              <X className="size-3.5" aria-hidden="true" />
            </button>
          );
        })}
        <span className="quiet" role="status">
          {rows.of === undefined || rows.of === count
            ? `${count.toLocaleString()}${rows.more ? " and more" : ""}`
            : `${count.toLocaleString()} of ${rows.of.toLocaleString()}`}
        </span>
        <div className="ml-auto flex flex-wrap items-center gap-1">
          {tools}
          <SavedViews label={label} state={state} />
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
                        checked={state.shown.has(column.name)}
                        onChange={() =>
                          state.setShown(
                            columns
                              .map((each) => each.name)
                              .filter((name) => (name === column.name) !== state.shown.has(name)),
                          )
                        }
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
            onClick={() => state.setCompact(!compact)}
          >
            <Rows3 className="size-4" aria-hidden="true" />
          </button>
          <button
            type="button"
            className="btn btn-ghost btn-sm"
            aria-label="Export as CSV"
            title="Export as CSV"
            disabled={busy}
            onClick={() => void everything((found) => keepFile(csvOf(visible, found), file))}
          >
            <Download className="size-4" aria-hidden="true" />
          </button>
        </div>
      </div>
      <div className="min-h-0 overflow-clip rounded-box border border-base-300 bg-base-100">
        <div
          ref={box}
          className={`overflow-auto ${many ? "h-[65dvh] will-change-scroll" : ""}`}
          role="region"
          aria-label={label}
          tabIndex={0}
        >
          <table className={`table table-sm ${many ? "one-line" : ""}`}>
            <thead className="sticky top-0 z-10 bg-base-100">
              <tr>
                {bulk && (
                  <th scope="col" className="w-8">
                    <input
                      type="checkbox"
                      className="checkbox checkbox-xs"
                      aria-label="Select all"
                      checked={all}
                      disabled={busy}
                      onChange={() =>
                        all
                          ? setSelection(new Map())
                          : void everything((found) =>
                              setSelection(new Map(found.map((row) => [id(row), row]))),
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
                        {column.unsorted ? (
                          <span className="font-semibold">{column.head}</span>
                        ) : (
                          <button
                            type="button"
                            className="flex cursor-pointer items-center gap-1 font-semibold hover:underline"
                            onClick={() => state.setSort(up ? `-${column.name}` : column.name)}
                          >
                            {column.head}
                            {(up || down) && <Arrow className="size-3.5" aria-hidden="true" />}
                          </button>
                        )}
                        {!column.unfiltered && (
                          <HeadFilter
                            column={column}
                            values={column.choices ? values(column) : []}
                            chosen={filters.get(column.name) ?? []}
                            choose={(next) => state.setFilter(column.name, next)}
                          />
                        )}
                      </span>
                    </th>
                  );
                })}
              </tr>
            </thead>
            <Body
              rows={rows}
              columns={visible}
              id={id}
              box={box}
              height={compact ? COMPACT : ROW}
              selection={selection}
              select={bulk && select}
              name={columns[0]}
              here={here}
              made={made}
            />
          </table>
          {count === 0 && (
            <div className="px-3">
              <Empty>Nothing in this list matches. Clear the search or a filter.</Empty>
            </div>
          )}
        </div>
        {bulk && selection.size > 0 && (
          <div className="sticky bottom-0 z-10 flex flex-wrap items-center justify-between gap-2 border-t border-base-300 bg-secondary px-3 py-2">
            <span className="font-semibold text-primary">
              {selection.size.toLocaleString()} selected
            </span>
            <div className="flex flex-wrap items-center gap-2">
              {bulk([...selection.values()], () => setSelection(new Map()))}
              <button
                type="button"
                className="btn btn-ghost btn-sm"
                onClick={() => setSelection(new Map())}
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
