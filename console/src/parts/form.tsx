// A form that sends, waits, and keeps what was typed when it is refused.

import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, type ReactNode, useRef } from "react";
import { Trouble } from "./trouble";

/** A form that keeps what was typed when it is refused. */
export function Form({
  submit,
  label,
  after = [],
  done,
  keep,
  children,
}: {
  submit: (data: FormData) => Promise<unknown>;
  label: string;
  after?: string[];
  done?: () => void;
  keep?: boolean;
  children: ReactNode;
}) {
  const client = useQueryClient();
  const form = useRef<HTMLFormElement>(null);
  const work = useMutation({
    mutationFn: submit,
    onSuccess: async () => {
      await Promise.all(after.map((key) => client.invalidateQueries({ queryKey: [key] })));
      if (!keep) form.current?.reset();
      done?.();
    },
  });
  const send = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    work.mutate(new FormData(event.currentTarget));
  };
  return (
    <form ref={form} onSubmit={send} className="flex flex-col gap-2">
      {children}
      <Trouble error={work.error} />
      <div>
        <button
          type="submit"
          className="btn btn-primary btn-sm"
          disabled={work.isPending}
          aria-busy={work.isPending}
        >
          {label}
          {work.isPending && " …"}
        </button>
      </div>
    </form>
  );
}
