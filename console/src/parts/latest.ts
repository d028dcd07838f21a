import { type RefObject, useEffect, useRef } from "react";

/** The latest of a value, for what is called later: it is always the same object, so that a row that
 * has it is drawn again only when it has changed itself. */
export function useLatest<T>(value: T): RefObject<T> {
  const latest = useRef(value);
  useEffect(() => {
    latest.current = value;
  }, [value]);
  return latest;
}
