// A table that the service sorts and filters: only what is looked at is fetched, so that a hundred
// thousand rows open as quickly as ten.

import {
  type UseQueryResult,
  keepPreviousData,
  useQueries,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { type ReactNode, useCallback, useDeferredValue, useMemo, useState } from "react";
import { Skeleton } from "./empty";
import { useLatest } from "./latest";
import { useSettled } from "./settled";
import { type Column, order, useTableState } from "./table-state";
import { TableView } from "./table-view";
import { told } from "./toast";
import { Trouble } from "./trouble";

/** So many rows are fetched at once. */
const PART = 200;
/** The most that the service gives at once. */
const LARGEST = 500;
/** More are not selected or written at once. */
const MOST = 20_000;

/** What is asked of the service. */
export interface Asked {
  sort: string;
  words: string;
  filters: Map<string, string[]>;
}

/** What the filters of some columns are called in a query. */
export function narrowed({ words, filters }: Asked, names: Record<string, string>) {
  const query: Record<string, string> = words ? { find: words } : {};
  for (const [column, name] of Object.entries(names)) {
    const value = filters.get(column)?.[0];
    if (value) query[name] = value;
  }
  return query;
}

/** Columns that the service filters have their choices themselves. */
export const chosenOnly = <T,>(column: Column<T>): string[] =>
  Array.isArray(column.choices) ? column.choices : [];

export interface Part<T> {
  total: number;
  items: T[];
}

/** What of the parts is drawn. */
const together = <T,>(parts: UseQueryResult<Part<T>>[]) => ({
  data: parts.map((part) => part.data),
  error: parts.find((part) => part.error)?.error,
});

export function RemoteTable<T>({
  label,
  columns,
  id,
  name,
  fetch,
  everything,
  values,
  first,
  empty,
  file,
  tools,
  bulk,
}: {
  label: string;
  columns: Column<T>[];
  id: (row: T) => string;
  /** What the rows are cached under. */
  name: unknown[];
  /** A part of the table, and how many rows the whole of it has. */
  fetch: (asked: Asked, from: number, limit: number) => Promise<Part<T>>;
  /** All rows, in any order; left out, they are fetched part by part. */
  everything?: (asked: Asked, most: number) => Promise<T[]>;
  /** What a column can be filtered by, where it has choices. */
  values: (column: Column<T>) => string[];
  /** What it is sorted by first. */
  first: string;
  empty: ReactNode;
  file: string;
  tools?: ReactNode;
  bulk?: (rows: T[], clear: () => void) => ReactNode;
}) {
  const state = useTableState(columns);
  const client = useQueryClient();
  const words = useSettled(state.words);
  const chosen = state.sort || first;
  // The column head changes at once; the rows follow after the next paint.
  const sort = useDeferredValue(chosen);
  const filterText = useDeferredValue(JSON.stringify([...state.filters]));
  const asked = useMemo<Asked>(
    () => ({ sort, words, filters: new Map(JSON.parse(filterText) as [string, string[]][]) }),
    [sort, words, filterText],
  );
  const key = useMemo(() => [...name, sort, words, filterText], [name, sort, words, filterText]);
  const part = useCallback(
    (number: number) => ({
      queryKey: [...key, number],
      queryFn: () => fetch(asked, number * PART, PART),
      // Rows that were there stay until the others come.
      structuralSharing: false as const,
    }),
    [key, fetch, asked],
  );
  const head = useQuery({ ...part(0), placeholderData: keepPreviousData });
  const [seen, setSeen] = useState<[number, number]>([0, 0]);
  const total = head.data?.total ?? 0;
  const wanted = useMemo(() => {
    const last = Math.min(seen[1], Math.max(0, Math.ceil(total / PART) - 1));
    return Array.from({ length: last - seen[0] + 1 }, (_, index) => seen[0] + index).filter(
      (number) => number > 0,
    );
  }, [seen, total]);
  const parts = useQueries({ queries: wanted.map(part), combine: together });
  const look = useCallback((one: number, other: number) => {
    const [from, to] = [Math.floor(one / PART), Math.floor(other / PART)];
    setSeen((was) => (was[0] === from && was[1] === to ? was : [from, to]));
  }, []);
  // The same as long as no part has come, so that nothing is drawn again for what else happens.
  const at = useCallback(
    (index: number): T | undefined => {
      const number = Math.floor(index / PART);
      const data =
        number === 0
          ? head.data
          : (parts.data[wanted.indexOf(number)] ?? client.getQueryData<Part<T>>([...key, number]));
      return data?.items[index % PART];
    },
    [head.data, parts.data, wanted, client, key],
  );
  const all = useLatest(async () => {
    if (total > MOST) {
      told(`More than ${MOST.toLocaleString()} rows. Filter the list first.`);
      return [];
    }
    if (!everything) {
      const rows: T[] = [];
      for (let from = 0; from < total; from += LARGEST)
        rows.push(...(await fetch(asked, from, LARGEST)).items);
      return rows;
    }
    const rows = await everything(asked, MOST);
    const column = columns.find((each) => each.name === sort.replace(/^-/, ""));
    const way = sort.startsWith("-") ? -1 : 1;
    return column
      ? rows.sort((a, b) => way * order.compare(String(column.value(a)), String(column.value(b))))
      : rows;
  });
  const rows = useMemo(
    () => ({ count: total, at, look, all: () => all.current(), sort }),
    [total, at, look, all, sort],
  );
  const error = head.error ?? parts.error;
  if (error) return <Trouble error={error} retry={() => void head.refetch()} />;
  if (!head.data) return <Skeleton rows={6} />;
  if (total === 0 && !words && state.filters.size === 0) return <>{empty}</>;
  return (
    <TableView
      label={label}
      rows={rows}
      columns={columns}
      state={{ ...state, sort: chosen }}
      values={values}
      id={id}
      file={file}
      tools={tools}
      bulk={bulk}
    />
  );
}
