// Who would gain or lose what, said before a change to access is made.

import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Change, type Preview, Problem, api, result } from "../api";
import { Ask, Trouble } from "../parts";

/** The people whose access a change would change. */
export function Shifts({ change }: { change: Change }) {
  const preview = useQuery({
    queryKey: ["preview", change],
    queryFn: () => result(api.POST("/api/v1/preview", { body: change })),
    retry: false,
    gcTime: 0,
  });
  if (preview.error instanceof Problem && preview.error.status === 403) {
    return <p className="quiet">Only stewards can see whose access changes.</p>;
  }
  if (!preview.data)
    return preview.error ? (
      <Trouble error={preview.error} />
    ) : (
      <p role="status">Working out whose access changes …</p>
    );
  return <ShiftTable preview={preview.data} />;
}

/** What a preview says. */
export function ShiftTable({ preview: { sentence, shifts, more } }: { preview: Preview }) {
  return (
    <div>
      <p className="font-medium">{sentence}</p>
      {shifts.length > 0 && (
        <div
          className="mt-1 max-h-60 overflow-y-auto"
          tabIndex={0}
          role="group"
          aria-label="Whose access changes"
        >
          <table className="table table-sm">
            <thead>
              <tr>
                <th scope="col">Who</th>
                <th scope="col">Before</th>
                <th scope="col">After</th>
                <th scope="col" className="text-right">
                  Folders
                </th>
                <th scope="col" className="text-right">
                  Credentials
                </th>
                <th scope="col" className="text-right">
                  Under a gate
                </th>
              </tr>
            </thead>
            <tbody>
              {shifts.map((shift) => (
                <tr key={`${shift.person} ${shift.before} ${shift.after}`}>
                  <td>
                    {shift.name}
                    {shift.state !== "active" && <span className="quiet"> ({shift.state})</span>}
                  </td>
                  <td>{shift.before ?? "nothing"}</td>
                  <td>{shift.after ?? "nothing"}</td>
                  <td className="text-right tabular-nums">{shift.folders}</td>
                  <td className="text-right tabular-nums">{shift.credentials}</td>
                  <td className="text-right tabular-nums">{shift.gated}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {more && <p className="quiet text-sm">There are more.</p>}
    </div>
  );
}

/** A button that shows whose access would change, and then asks. */
export function Considered({
  label,
  of,
  title,
  change,
  run,
  after,
  look = "btn-sm",
}: {
  label: string;
  of?: string;
  title: string;
  change: Change;
  run: () => Promise<unknown>;
  after: string[];
  look?: string;
}) {
  const [asking, setAsking] = useState(false);
  return (
    <>
      <button
        type="button"
        className={`btn ${look} whitespace-nowrap`}
        aria-label={of && `${label} ${of}`}
        onClick={() => setAsking(true)}
      >
        {label}
      </button>
      {asking && (
        <Ask
          title={title}
          label={label.charAt(0).toUpperCase() + label.slice(1).replace(" …", "")}
          run={run}
          close={() => setAsking(false)}
          after={after}
        >
          <Shifts change={change} />
        </Ask>
      )}
    </>
  );
}
