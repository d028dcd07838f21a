// Moments and durations, exact where somebody points at them.

import { useEffect, useState, useSyncExternalStore } from "react";

/** How the hours are counted: as the browser's language has it, or from 0 to 24. */
export type Clock = "system" | "24";

const changed = new Set<() => void>();

export function setClock(next: Clock): void {
  if (next === "system") localStorage.removeItem("clock");
  else localStorage.setItem("clock", next);
  for (const tell of changed) tell();
}

export function useClock(): Clock {
  return useSyncExternalStore(
    (tell) => {
      changed.add(tell);
      return () => changed.delete(tell);
    },
    () => (localStorage.getItem("clock") === "24" ? "24" : "system"),
  );
}

/** The time now, again after so many milliseconds. */
export function useNow(every: number): number {
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), every);
    return () => clearInterval(timer);
  }, [every]);
  return now;
}

/** A moment, in the reader's own time zone. */
export function When({ at }: { at: string | null | undefined }) {
  const clock = useClock();
  if (!at) return <span className="quiet">–</span>;
  const time = new Date(at);
  const hours = clock === "24" ? ({ hourCycle: "h23" } as const) : {};
  const same = time.toDateString() === new Date().toDateString();
  const day = time.toLocaleDateString(undefined, {
    day: "numeric",
    month: "short",
    year: time.getFullYear() === new Date().getFullYear() ? undefined : "numeric",
  });
  const shown = time.toLocaleTimeString(undefined, {
    hour: "2-digit",
    minute: "2-digit",
    ...hours,
  });
  return (
    <time
      dateTime={at}
      title={time.toLocaleString(undefined, hours)}
      className="whitespace-nowrap tabular-nums"
    >
      {same ? shown : `${day}, ${shown}`}
    </time>
  );
}

const UNITS: [Intl.RelativeTimeFormatUnit, number][] = [
  ["day", 86_400_000],
  ["hour", 3_600_000],
  ["minute", 60_000],
];

/** How long ago something was; the moment itself where somebody points at it. */
export function Ago({ at }: { at: string }) {
  const now = useNow(30_000);
  const clock = useClock();
  const time = new Date(at);
  const past = now - time.getTime();
  const [unit, length] = UNITS.find(([, each]) => past >= each) ?? ["minute", 60_000];
  const words = new Intl.RelativeTimeFormat(undefined, { numeric: "auto" });
  return (
    <time
      dateTime={at}
      title={time.toLocaleString(undefined, clock === "24" ? { hourCycle: "h23" } : {})}
      className="whitespace-nowrap"
    >
      {past < 60_000 ? "just now" : words.format(-Math.floor(past / length), unit)}
    </time>
  );
}

/** A countdown to a moment. */
export function Left({ until }: { until: string }) {
  const seconds = Math.max(0, Math.round((Date.parse(until) - useNow(1000)) / 1000));
  const hours = Math.floor(seconds / 3600);
  const minutes = Math.floor(seconds / 60) % 60;
  return (
    <span className="tabular-nums">
      {hours > 0 ? `${hours} h ${minutes} min` : minutes > 0 ? `${minutes} min` : `${seconds} s`}
    </span>
  );
}
