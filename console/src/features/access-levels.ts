// Levels, and which of them includes which.

const RANK = ["list", "use", "reveal", "edit", "steward"];

/** Whether a level is at least another. */
export function atLeast(held: string | null | undefined, needed: string): boolean {
  return RANK.indexOf(held ?? "") >= RANK.indexOf(needed);
}

/** The higher of two levels. */
export function higher(one: string | undefined, other: string): string {
  return RANK.indexOf(one ?? "") >= RANK.indexOf(other) ? (one ?? other) : other;
}
