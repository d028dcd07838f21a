// How every table looks, wherever its rows come from: sorted and filtered from its heads, columns
// chosen, many rows selected, written as CSV. Rows beyond a screenful are drawn as they are scrolled
// to.

import { Popover } from "@base-ui/react/popover";
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
  type CSSProperties,
  type ReactNode,
  type RefObject,
  memo,
  useCallback,
  useEffect,
  useMemo,
  useRef,
  useState,
} from "react";
import { useDrawnRows } from "./drawn-rows";
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

/** What a column is filtered by. */
function ColumnFilter({
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
  if (column.choices)
    return (
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
    );
  if (column.days)
    return (
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
    );
  return (
    <input
      className="input input-sm w-full"
      aria-label={`${column.head} contains`}
      placeholder="contains"
      value={chosen[0] ?? ""}
      onChange={(event) => choose(event.target.value ? [event.target.value] : [])}
    />
  );
}

/** What the heads of the columns open: one for all of them, since each would be drawn with the table. */
function HeadFilters<T>({
  handle,
  columns,
  state,
  values,
}: {
  handle: Popover.Handle<string>;
  columns: Column<T>[];
  state: TableState<T>;
  values: (column: Column<T>) => string[];
}) {
  return (
    <Popover.Root handle={handle}>
      {({ payload }) => {
        const column = columns.find((each) => each.name === payload);
        return (
          <Popover.Portal>
            <Popover.Positioner sideOffset={4} align="start" className="z-50">
              <Popover.Popup className="max-h-80 w-60 overflow-y-auto rounded-box border border-base-300 bg-base-100 p-3 outline-none">
                {column && (
                  <>
                    <Popover.Title className="mb-2 font-semibold">{column.head}</Popover.Title>
                    <ColumnFilter
                      key={column.name}
                      column={column}
                      values={column.choices ? values(column) : []}
                      chosen={state.filters.get(column.name) ?? []}
                      choose={(next) => state.setFilter(column.name, next)}
                    />
                  </>
                )}
              </Popover.Popup>
            </Popover.Positioner>
          </Popover.Portal>
        );
      }}
    </Popover.Root>
  );
}

interface LineProps<T> {
  row: T;
  id: string;
  /** Which row of a long table it is, and how far below its head, in pixels. */
  index: number | undefined;
  top: number;
  columns: Column<T>[];
  selected: boolean;
  /** Nothing, where rows cannot be selected. */
  select: ((id: string, row: T) => void) | undefined;
  name: string;
  here: boolean;
}

/** A row of a long table, which the browser would not take for a row by its look. */
const placed = (index: number, top: number) => ({
  role: "row",
  "aria-rowindex": index + 2,
  style: { top: `${top}px` },
});

const CELL = { role: "cell" };

/** A row that was drawn is drawn again only when it has changed itself. */
const Line = memo(function Line<T>({
  row,
  id,
  index: at,
  top,
  columns,
  selected,
  select,
  name,
  here,
}: LineProps<T>) {
  return (
    <tr
      className={selected || here ? "bg-secondary" : "hover:bg-base-200"}
      data-row={id}
      {...(at !== undefined && placed(at, top))}
    >
      {select && (
        <td {...(at !== undefined && CELL)}>
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
          {...(at !== undefined && CELL)}
          key={column.reused || !column.cell ? column.name : `${column.name} ${id}`}
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

interface BodyProps<T> {
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
}

/** The rows: they alone are drawn again while somebody scrolls. */
const Body = memo(function Body<T>({
  rows,
  columns,
  id,
  box,
  height,
  selection,
  select,
  name,
  here,
}: BodyProps<T>) {
  const { count, look } = rows;
  const many = count > MANY;
  const { first, end, order, elements } = useDrawnRows({
    count,
    box,
    height,
    around: 8,
    enabled: many,
  });
  useEffect(() => look?.(first, Math.max(first, end - 1)), [look, first, end]);
  // This renders at every row scrolled past; the rows change only when a block of them comes.
  const lines = useMemo(
    () =>
      order.map((index) => {
        const row = rows.at(index);
        const top = index * height;
        if (row === undefined)
          return (
            <tr key={`${index % elements}, on its way`} {...placed(index, top)}>
              <td
                {...CELL}
                className="col-span-full"
                colSpan={columns.length + (select ? 1 : 0)}
                aria-label="on its way"
              >
                <div className="skeleton h-4 w-full" />
              </td>
            </tr>
          );
        const key = id(row);
        return (
          <Line
            key={many ? index % elements : key}
            id={key}
            index={many ? index : undefined}
            top={top}
            row={row}
            columns={columns}
            selected={selection.has(key)}
            select={select}
            name={String(name?.value(row) ?? "")}
            here={here?.(row) ?? false}
          />
        );
      }),
    [rows, order, elements, many, height, columns, select, id, selection, name, here],
  );
  return (
    <tbody
      role={many ? "rowgroup" : undefined}
      style={many ? { height: `${count * height}px` } : undefined}
    >
      {lines}
    </tbody>
  );
}) as <T>(props: BodyProps<T>) => ReactNode;

/** The widths of the columns of a long table, by the words of its first rows. They are reckoned and not
 * measured, so that no row needs to be laid out for another's sake; all rows have the same.
 *
 * A column whose longest word has 14 letters, beside one with 28, gets a third of the width that is
 * there, and at least what its head needs. */
function widthsOf<T>(
  columns: Column<T>[],
  rows: T[],
  select: boolean,
): { all: string; least: string } {
  let sum = select ? SELECT : 0;
  const tracks = columns.map((column, place) => {
    const head = column.head.length + (column.unfiltered ? 1 : 4);
    // Beside the words of a cell there may be an icon.
    const beside = column.cell ? 3 : 0;
    const longest = Math.max(...rows.map((row) => lettersOf(column.value(row)))) + beside;
    const letters = Math.min(Math.max(head, longest), MOST_LETTERS);
    const needed = Math.min(letters, Math.max(head, FEW_LETTERS)) * LETTER + GAP;
    const least = place === 0 && !column.slim ? Math.max(needed, FIRST) : needed;
    sum += least;
    return `minmax(${least.toFixed(2)}rem, ${letters}fr)`;
  });
  return {
    all: [...(select ? [`${SELECT}rem`] : []), ...tracks].join(" "),
    least: `${sum.toFixed(2)}rem`,
  };
}

// In rem: the column of check boxes, the least of the column that says what a row is, a letter, and
// what is beside the words.
const SELECT = 2.25;
const FIRST = 11;
const LETTER = 0.43;
const GAP = 1.25;
/** What a column may be narrowed to, and what a long word counts for at most. */
const FEW_LETTERS = 12;
const MOST_LETTERS = 32;

/** How many letters a value has as it is shown: a moment is shown shorter than it is sent. */
const lettersOf = (value: string | number): number =>
  typeof value === "string" && /^\d{4}-\d\d-\d\dT/.test(value) ? 14 : String(value).length;

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
  const [opened] = useState(() => Popover.createHandle<string>());
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
  // They are reckoned again when other columns, or other rows, come first.
  const begin = many ? rows.at(0) : undefined;
  const made = begin && `${visible.map((column) => column.name).join(" ")} ${id(begin)}`;
  const [widths, setWidths] = useState({ made: "", all: "", least: "" });
  if (made && made !== widths.made) {
    const top = Array.from({ length: 30 }, (_, index) => rows.at(index));
    const known = top.filter((row) => row !== undefined);
    setWidths({ made, ...widthsOf(visible, known, Boolean(bulk)) });
  }
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
          <table
            className={`table table-sm ${many ? "one-line" : ""}`}
            {...(many && {
              role: "table",
              "aria-rowcount": count + 1,
              style: { "--columns": widths.all, minWidth: widths.least } as CSSProperties,
            })}
          >
            <thead role={many ? "rowgroup" : undefined} className="sticky top-0 z-10 bg-base-100">
              <tr {...(many && { role: "row", "aria-rowindex": 1 })}>
                {bulk && (
                  <th scope="col" role={many ? "columnheader" : undefined} className="w-8">
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
                      role={many ? "columnheader" : undefined}
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
                          <Popover.Trigger
                            handle={opened}
                            payload={column.name}
                            className={`cursor-pointer rounded-selector p-1 hover:bg-base-300 ${filters.has(column.name) ? "text-primary" : "quiet"}`}
                            aria-label={`Filter by ${column.head}`}
                          >
                            <ListFilter className="size-3.5" aria-hidden="true" />
                          </Popover.Trigger>
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
            />
          </table>
          <HeadFilters handle={opened} columns={columns} state={state} values={values} />
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
