// A table of a log: newest or oldest first, narrowed by the service, and fetched further as it is
// scrolled. Nobody counts a log to look at its newest page.

import { useInfiniteQuery } from "@tanstack/react-query";
import { type ReactNode, useCallback, useMemo } from "react";
import { Skeleton } from "./empty";
import type { Asked } from "./remote-table";
import { useSettled } from "./settled";
import { type Column, useTableState } from "./table-state";
import { TableView } from "./table-view";
import { Trouble } from "./trouble";

/** So many rows are fetched at once. */
const PART = 200;
/** As near to the last row that is there, more are fetched. */
const NEAR = 60;

interface Stretch<T> {
  items: T[];
  next?: string | null | undefined;
}

export function LogTable<T>({
  label,
  columns,
  id,
  name,
  fetch,
  everything,
  first,
  file,
  tools,
}: {
  label: string;
  columns: Column<T>[];
  id: (row: T) => string;
  /** What the rows are cached under. */
  name: string;
  /** The rows after a cursor. */
  fetch: (asked: Asked, cursor: string, limit: number) => Promise<Stretch<T>>;
  /** All rows that match, as far as they can be written at once. */
  everything: (asked: Asked) => Promise<T[]>;
  /** What it is sorted by first. */
  first: string;
  file: string;
  tools?: ReactNode;
}) {
  const state = useTableState(columns);
  // Each look at the log is in the log: not one for each letter.
  const words = useSettled(state.words);
  const filterText = useSettled(JSON.stringify([...state.filters]));
  const sort = state.sort || first;
  const asked = useMemo<Asked>(
    () => ({ sort, words, filters: new Map(JSON.parse(filterText) as [string, string[]][]) }),
    [sort, words, filterText],
  );
  const log = useInfiniteQuery({
    queryKey: [name, sort, words, filterText],
    initialPageParam: "",
    queryFn: ({ pageParam }) => fetch(asked, pageParam, PART),
    getNextPageParam: (part) => part.next || undefined,
  });
  const rows = useMemo(() => log.data?.pages.flatMap((part) => part.items) ?? [], [log.data]);
  const { fetchNextPage, hasNextPage, isFetchingNextPage } = log;
  const look = useCallback(
    (_: number, last: number) => {
      if (hasNextPage && !isFetchingNextPage && last >= rows.length - NEAR) void fetchNextPage();
    },
    [hasNextPage, isFetchingNextPage, fetchNextPage, rows.length],
  );
  if (log.error) return <Trouble error={log.error} retry={() => void log.refetch()} />;
  if (log.isPending && !words && state.filters.size === 0) return <Skeleton rows={8} />;
  return (
    <TableView
      label={label}
      rows={{
        count: rows.length,
        more: hasNextPage,
        at: (index) => rows[index],
        look,
        all: () => everything(asked),
      }}
      columns={columns}
      state={{ ...state, sort }}
      values={(column) => (Array.isArray(column.choices) ? column.choices : [])}
      id={id}
      file={file}
      tools={tools}
    />
  );
}
