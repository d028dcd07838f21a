// Which credential comes before and after the open one in the list beside it.

import { useSyncExternalStore } from "react";

let order: string[] = [];
const listeners = new Set<() => void>();

/** The list as it is shown now. */
export function showOrder(ids: string[]): void {
  order = ids;
  for (const tell of listeners) tell();
}

export function useNeighbours(id: string): {
  before: string | undefined;
  after: string | undefined;
} {
  const ids = useSyncExternalStore(
    (tell) => {
      listeners.add(tell);
      return () => listeners.delete(tell);
    },
    () => order,
  );
  const at = ids.indexOf(id);
  return at < 0
    ? { before: undefined, after: undefined }
    : { before: ids[at - 1], after: ids[at + 1] };
}
