// What is chosen of a table: it stands in the address, so that a link leads a colleague to the same
// view.

import { useMemo, useState } from "react";
import { useLocation, useSearch } from "wouter";
import { useQueryPart } from "./tabs";
import type { ReactNode } from "react";

export interface Column<T> {
  /** Its name in the address and in CSV. */
  name: string;
  head: string;
  /** What it sorts, filters and is written by. */
  value: (row: T) => string | number;
  cell?: (row: T) => ReactNode;
  /** Its cells keep nothing of their row, so that those which are scrolled out of sight show others. */
  reused?: boolean;
  /** Numbers align. */
  right?: boolean;
  /** It is filtered by choosing among its values: those of the rows, or these. */
  choices?: boolean | string[];
  /** Only one of them at a time. */
  one?: boolean;
  /** It is filtered by the first and the last day. */
  days?: boolean;
  /** How a choice is written, where that is not what it is called. */
  word?: (value: string) => string;
  /** It needs no room to be read by, though it comes first. */
  slim?: boolean;
  /** Shown only when it is chosen. */
  extra?: boolean;
  /** The service cannot sort by it. */
  unsorted?: boolean;
  /** The service cannot filter by it. */
  unfiltered?: boolean;
}

/** What a column is filtered by, in words. */
export function filterWords<T>(column: Column<T> | undefined, chosen: string[]): string {
  if (column?.days) {
    const [since, until] = chosen;
    if (since && until) return `${since} to ${until}`;
    return since ? `since ${since}` : `until ${until}`;
  }
  return chosen.map((value) => column?.word?.(value) ?? value).join(", ");
}

/** The order of words in a list: numbers in them count as numbers. */
export const order = new Intl.Collator(undefined, { numeric: true, sensitivity: "base" });

/** The names that the choices of a table have in the address. */
const PARTS = ["sort", "q", "filter", "columns"] as const;

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

/** What is chosen of a table, from the address and from this browser. */
export function useTableState<T>(columns: Column<T>[], part = "") {
  const [sort, setSort] = useQueryPart(`${part}sort`);
  const [words, setWords] = useQueryPart(`${part}q`);
  const [filterText, setFilterText] = useQueryPart(`${part}filter`);
  const [columnText, setColumnText] = useQueryPart(`${part}columns`);
  const [compact, setCompact] = useState(localStorage.getItem("density") === "compact");
  const [path, go] = useLocation();
  const search = useSearch();
  const filters = useMemo(() => readFilters(filterText), [filterText]);
  const shown = useMemo(() => {
    const chosen = columnText.split(",").filter(Boolean);
    return new Set(
      chosen.length > 0
        ? chosen
        : columns.filter((column) => !column.extra).map((column) => column.name),
    );
  }, [columnText, columns]);
  const visible = useMemo(
    () => columns.filter((column) => shown.has(column.name)),
    [columns, shown],
  );
  return {
    sort,
    setSort,
    words,
    setWords,
    filters,
    setFilter: (name: string, values: string[]) => {
      const next = new Map(filters);
      if (values.length > 0) next.set(name, values);
      else next.delete(name);
      setFilterText(writeFilters(next));
    },
    shown,
    visible,
    setShown: (names: string[]) => {
      if (names.length > 0) setColumnText(names.join(","));
    },
    compact,
    setCompact: (next: boolean) => {
      localStorage.setItem("density", next ? "compact" : "comfortable");
      setCompact(next);
    },
    /** All that is chosen, as it can be saved. */
    view: () => {
      const all = new URLSearchParams(search);
      const kept = new URLSearchParams();
      for (const name of PARTS) {
        const value = all.get(`${part}${name}`);
        if (value) kept.set(name, value);
      }
      return kept.toString();
    },
    /** Chooses what was saved. */
    setView: (view: string) => {
      const all = new URLSearchParams(window.location.search);
      const kept = new URLSearchParams(view);
      for (const name of PARTS) {
        const value = kept.get(name);
        if (value) all.set(`${part}${name}`, value);
        else all.delete(`${part}${name}`);
      }
      const text = all.toString();
      go(text ? `${path}?${text}` : path, { replace: true });
    },
  };
}

export type TableState<T> = ReturnType<typeof useTableState<T>>;
