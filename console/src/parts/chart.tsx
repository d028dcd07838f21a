// Bars by day, in the theme's colours, with the figures in a table below them. A file of its own,
// loaded when a page has a chart: the library is large.

import { Bar, BarChart, ResponsiveContainer, YAxis } from "recharts";
import { useDateLanguage } from "./time";

export type Day = { day: string; done: number; failed: number };

/** One bar for each day: what went well, and on top of it what failed. */
export default function DayBars({ days, label }: { days: Day[]; label: string }) {
  const language = useDateLanguage();
  const named = (day: string, length: "short" | "long") =>
    new Date(`${day}T12:00`).toLocaleDateString(language || undefined, { weekday: length });
  return (
    <div>
      <div className="h-20" aria-hidden="true">
        <ResponsiveContainer width="100%" height="100%">
          <BarChart
            data={days}
            margin={{ top: 4, right: 0, bottom: 0, left: 56 }}
            barCategoryGap="28%"
            accessibilityLayer={false}
          >
            <YAxis hide domain={[0, (most: number) => Math.max(most, 4)]} />
            <Bar
              dataKey="done"
              stackId="day"
              fill="var(--color-success)"
              isAnimationActive={false}
            />
            <Bar
              dataKey="failed"
              stackId="day"
              fill="var(--color-error)"
              isAnimationActive={false}
            />
          </BarChart>
        </ResponsiveContainer>
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
