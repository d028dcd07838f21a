// Moments and durations, exact where somebody points at them.

import { useEffect, useState, useSyncExternalStore } from "react";

/** How the hours are counted: as the language of the dates has it, or from 0 to 24. */
export type Clock = "system" | "24";

/** The language that dates are written in: the browser's, another, or year-month-day (ISO 8601). */
export const DATE_LANGUAGES: [string, string][] = [
  ["", "As the browser"],
  ["sv-SE", "Year-month-day (ISO 8601)"],
  ["en-GB", "English (United Kingdom)"],
  ["en-US", "English (United States)"],
  ["cs-CZ", "Czech"],
  ["da-DK", "Danish"],
  ["nl-NL", "Dutch"],
  ["fr-FR", "French"],
  ["de-DE", "German"],
  ["it-IT", "Italian"],
  ["pl-PL", "Polish"],
  ["pt-PT", "Portuguese"],
  ["es-ES", "Spanish"],
  ["uk-UA", "Ukrainian"],
];

const changed = new Set<() => void>();

function keep(name: string, value: string): void {
  if (value) localStorage.setItem(name, value);
  else localStorage.removeItem(name);
  for (const tell of changed) tell();
}

const useKept = (name: string) =>
  useSyncExternalStore(
    (tell) => {
      changed.add(tell);
      return () => changed.delete(tell);
    },
    () => localStorage.getItem(name) ?? "",
  );

export const setClock = (next: Clock) => keep("clock", next === "24" ? "24" : "");
export const useClock = (): Clock => (useKept("clock") === "24" ? "24" : "system");
export const setDateLanguage = (next: string) => keep("dates", next);
export const useDateLanguage = () => useKept("dates");

/** The language and the hours that the person wants. */
function useDates(): [string | undefined, Intl.DateTimeFormatOptions] {
  const language = useDateLanguage();
  const clock = useClock();
  return [language || undefined, clock === "24" ? { hourCycle: "h23" } : {}];
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
  const [language, hours] = useDates();
  if (!at) return <span className="quiet">–</span>;
  const time = new Date(at);
  const same = time.toDateString() === new Date().toDateString();
  const day =
    language === "sv-SE"
      ? time.toLocaleDateString(language)
      : time.toLocaleDateString(language, {
          day: "numeric",
          month: "short",
          year: time.getFullYear() === new Date().getFullYear() ? undefined : "numeric",
        });
  const shown = time.toLocaleTimeString(language, {
    hour: "2-digit",
    minute: "2-digit",
    ...hours,
  });
  return (
    <time
      dateTime={at}
      title={time.toLocaleString(language, hours)}
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
  const [language, hours] = useDates();
  const time = new Date(at);
  const past = now - time.getTime();
  const [unit, length] = UNITS.find(([, each]) => past >= each) ?? ["minute", 60_000];
  const words = new Intl.RelativeTimeFormat(undefined, { numeric: "auto" });
  return (
    <time dateTime={at} title={time.toLocaleString(language, hours)} className="whitespace-nowrap">
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
