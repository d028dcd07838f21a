// Bars by day, in the theme's colours, with the figures in a table below them.

import { useDateLanguage } from "./time";

export type Day = { day: string; done: number; failed: number };

/** The height of the longest bar, in pixels. */
const HIGHEST = 76;
/** The scale covers at least this many rotations, so that a single one does not fill the chart. */
const LEAST = 4;

/** One bar for each day: what went well, and on top of it what failed. */
export function DayBars({ days, label }: { days: Day[]; label: string }) {
  const language = useDateLanguage();
  const named = (day: string, length: "short" | "long") =>
    new Date(`${day}T12:00`).toLocaleDateString(language || undefined, { weekday: length });
  const most = Math.max(LEAST, ...days.map(({ done, failed }) => done + failed));
  const height = (count: number) => `${(count / most) * HIGHEST}px`;
  return (
    <div>
      <div className="ml-14 grid h-20 auto-cols-fr grid-flow-col items-end" aria-hidden="true">
        {days.map(({ day, done, failed }) => (
          <div key={day} className="mx-[22%]">
            <div className="bg-error" style={{ height: height(failed) }} />
            <div className="bg-success" style={{ height: height(done) }} />
          </div>
        ))}
      </div>
      <table className="w-full table-fixed text-center text-xs tabular-nums" aria-label={label}>
        <thead className="border-t border-base-300">
          <tr>
            <th className="w-14 text-left font-normal">
              <span className="sr-only">Ended as</span>
            </th>
            {days.map(({ day }) => (
              <th key={day} scope="col" className="quiet py-1 font-normal">
                <span aria-hidden="true">{named(day, "short")}</span>
                <span className="sr-only">{named(day, "long")}</span>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          <tr>
            <th scope="row" className="quiet text-left font-normal">
              done
            </th>
            {days.map(({ day, done }) => (
              <td key={day}>{done || <span className="quiet">0</span>}</td>
            ))}
          </tr>
          <tr>
            <th scope="row" className="quiet text-left font-normal">
              failed
            </th>
            {days.map(({ day, failed }) => (
              <td key={day} className={failed > 0 ? "font-semibold text-error" : "quiet"}>
                {failed}
              </td>
            ))}
          </tr>
        </tbody>
      </table>
    </div>
  );
}
