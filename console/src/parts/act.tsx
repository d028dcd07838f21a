// A button that waits for its own work and shows what went wrong.

import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Ask } from "./overlay";
import { Trouble } from "./trouble";

/** `of` says to a screen reader which thing it is for, where many stand below each other; `confirm`
 * is asked before. */
export function Act({
  label,
  icon,
  of,
  run,
  after = [],
  look = "btn-sm",
  confirm,
  danger,
}: {
  label: string;
  icon?: ReactNode;
  of?: string | undefined;
  run: () => Promise<unknown>;
  after?: string[];
  look?: string;
  confirm?: string | undefined;
  danger?: boolean;
}) {
  const client = useQueryClient();
  const [asking, setAsking] = useState(false);
  const work = useMutation({
    mutationFn: run,
    onSettled: () => Promise.all(after.map((key) => client.invalidateQueries({ queryKey: [key] }))),
  });
  const [question, ...rest] = (confirm ?? "").split("? ");
  return (
    <span>
      <button
        type="button"
        className={`btn ${look} whitespace-nowrap`}
        aria-label={of && `${label} ${of}`}
        onClick={() => (confirm ? setAsking(true) : work.mutate())}
        disabled={work.isPending}
        aria-busy={work.isPending}
      >
        {icon}
        {label}
      </button>
      {asking && (
        <Ask
          title={`${question?.replace(/\?$/, "")}?`}
          label={label}
          run={run}
          close={() => setAsking(false)}
          after={after}
          danger={danger ?? false}
        >
          {rest.length > 0 && <p>{rest.join("? ")}</p>}
        </Ask>
      )}
      <Trouble error={work.error} />
    </span>
  );
}
