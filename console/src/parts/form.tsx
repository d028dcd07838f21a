// A form that sends, waits, and keeps what was typed when it is refused. What is wrong is said at its
// field while it is typed; what was typed and not sent is not lost without a question.

import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, type ReactNode, useEffect, useMemo, useRef } from "react";
import { Problem } from "../api";
import { FieldProblems } from "./field";
import { Trouble } from "./trouble";
import { setUnsaved } from "./unsaved";

const NONE = {};

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
    // Whoever leaves for what was made loses nothing.
    onMutate: () => {
      if (form.current) setUnsaved(form.current, false);
    },
    onError: () => {
      if (form.current) setUnsaved(form.current, true);
    },
    onSuccess: async () => {
      await Promise.all(after.map((key) => client.invalidateQueries({ queryKey: [key] })));
      if (!keep) form.current?.reset();
      done?.();
    },
  });
  useEffect(() => {
    const here = form.current;
    return () => {
      if (here) setUnsaved(here, false);
    };
  }, []);
  const send = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const here = event.currentTarget;
    // Each field that is wrong says so itself.
    if (!here.checkValidity()) {
      here.querySelector<HTMLElement>(":invalid:not(fieldset)")?.focus();
      return;
    }
    work.mutate(new FormData(here));
  };
  const problems = useMemo(
    () => (work.error instanceof Problem ? work.error.fields : NONE),
    [work.error],
  );
  return (
    <form
      ref={form}
      noValidate
      onSubmit={send}
      onInput={(event) => setUnsaved(event.currentTarget, true)}
      className="flex flex-col gap-2"
    >
      <FieldProblems value={problems}>{children}</FieldProblems>
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
