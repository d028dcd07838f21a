// Which rows of a long list are drawn, and in which elements. An element whose row has gone out of
// sight shows the next one that comes into it: to change its words takes a tenth of the time that it
// takes to make a new one and lay it out.

import { type Range, useVirtualizer } from "@tanstack/react-virtual";
import {
  type RefObject,
  useCallback,
  useEffect,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
} from "react";

/** Rows come and go in blocks of so many, so that most frames of scrolling draw nothing new. */
const BLOCK = 4;

export interface Drawn {
  /** The first row that is drawn, and the one after the last. */
  first: number;
  end: number;
  /** In which order their elements stand in the document. It is that of the rows, but while somebody
   * scrolls: to move an element costs as much as to make it. */
  order: number[];
  /** How many elements there are: the rows whose index leaves the same remainder share one. */
  elements: number;
  /** The height of the whole list. */
  height: number;
  scrollTo: (index: number) => void;
}

/** So many rows, from the one at which a block begins that is far enough above those that are seen. */
function windowOf({ startIndex, overscan, count }: Range, most: number): [number, number] {
  const rows = (Math.ceil((most + 2 * overscan) / BLOCK) + 1) * BLOCK;
  const wanted = Math.floor((startIndex - overscan) / BLOCK) * BLOCK;
  const first = Math.max(0, Math.min(wanted, count - rows));
  return [first, Math.min(count, first + rows)];
}

/** The rows that are drawn of a list in a box that scrolls. Rows have `data-row`, by which the focus
 * is kept at what it was on, or lost when that is out of sight: it never comes to another row. */
export function useDrawnRows({
  count,
  box,
  height,
  around,
  enabled = true,
}: {
  count: number;
  box: RefObject<HTMLElement | null>;
  /** Of a row, in pixels. */
  height: number;
  /** So many more are drawn above and below. */
  around: number;
  /** Otherwise all are drawn. */
  enabled?: boolean;
}): Drawn {
  // The most rows that were seen at once: the number of elements stays, though a row more or less is
  // seen as they move.
  const most = useRef(0);
  const rangeExtractor = useCallback((range: Range) => {
    most.current = Math.max(most.current, range.endIndex - range.startIndex + 1);
    const [first, end] = windowOf(range, most.current);
    return Array.from({ length: end - first }, (_, place) => first + place);
  }, []);
  const virtual = useVirtualizer({
    count,
    getScrollElement: () => box.current,
    estimateSize: () => height,
    overscan: around,
    rangeExtractor,
    enabled,
  });
  useEffect(() => virtual.measure(), [virtual, height]);
  const items = virtual.getVirtualItems();
  const first = enabled ? (items[0]?.index ?? 0) : 0;
  const end = enabled ? first + items.length : count;
  const elements = Math.max(1, end - first);
  const [begin, setBegin] = useState(0);
  const rests = !virtual.isScrolling;
  useEffect(() => {
    if (rests) setBegin(first);
  }, [rests, first]);
  const order = useMemo(() => {
    const place = (index: number) => (((index - begin) % elements) + elements) % elements;
    const rows = Array.from({ length: end - first }, (_, at) => first + at);
    return begin === first ? rows : rows.sort((one, other) => place(one) - place(other));
  }, [first, end, begin, elements]);
  useKeptFocus(box);
  return {
    first,
    end,
    order,
    elements,
    height: enabled ? virtual.getTotalSize() : count * height,
    scrollTo: (index) => virtual.scrollToIndex(index),
  };
}

/** Keeps the focus at the row that it was on. */
function useKeptFocus(box: RefObject<HTMLElement | null>): void {
  const on = useRef("");
  useEffect(() => {
    const list = box.current;
    const keep = (event: FocusEvent) => {
      on.current = rowOf(event.target)?.dataset.row ?? "";
    };
    list?.addEventListener("focusin", keep);
    return () => list?.removeEventListener("focusin", keep);
  }, [box]);
  useLayoutEffect(() => {
    const focus = document.activeElement;
    const row = rowOf(focus);
    if (!(focus instanceof HTMLElement) || !row || !box.current?.contains(row)) return;
    if (row.dataset.row === on.current) return;
    const its = box.current.querySelector(`[data-row="${CSS.escape(on.current)}"]`);
    const same = its?.querySelector<HTMLElement>(focus.tagName);
    if (same) same.focus({ preventScroll: true });
    else focus.blur();
  });
}

const rowOf = (element: EventTarget | null): HTMLElement | null =>
  element instanceof Element ? element.closest<HTMLElement>("[data-row]") : null;
