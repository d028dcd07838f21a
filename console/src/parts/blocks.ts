// Which rows of a long list are drawn: whole blocks of them, so that most of the frames of scrolling
// draw nothing new and lay nothing out again.

import type { Range } from "@tanstack/react-virtual";

const BLOCK = 8;

/** The rows of the blocks that are seen, and of those beside them. */
export function inBlocks({ startIndex, endIndex, overscan, count }: Range): number[] {
  const from = Math.max(0, Math.floor((startIndex - overscan) / BLOCK) * BLOCK);
  const to = Math.min(count, Math.ceil((endIndex + 1 + overscan) / BLOCK) * BLOCK);
  return Array.from({ length: Math.max(0, to - from) }, (_, index) => from + index);
}
