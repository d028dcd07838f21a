// Small parts that every page uses.

import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, type ReactNode, useEffect, useId, useRef, useState } from "react";
import { Problem } from "./api";

/** A state as a word, a shape and a colour, never a colour alone. */
const LOOKS: Record<string, [string, string]> = {
  "in-sync": ["●", "text-success"],
  done: ["●", "text-success"],
  approved: ["●", "text-success"],
  granted: ["●", "text-success"],
  active: ["●", "text-success"],
  "out-of-sync": ["▲", "text-error"],
  failed: ["▲", "text-error"],
  refused: ["✕", "text-error"],
  "in-doubt": ["◆", "text-warning"],
  unreachable: ["◇", "text-warning"],
  "locked-out": ["◆", "text-warning"],
  waiting: ["◔", "text-info"],
  due: ["◔", "text-info"],
  owed: ["◔", "text-warning"],
  suspended: ["◆", "text-warning"],
  paused: ["◆", "text-warning"],
  confirmed: ["●", "text-success"],
  "in force": ["●", "text-success"],
  queued: ["◔", "text-info"],
  running: ["◑", "text-info"],
  candidate: ["◑", "text-info"],
  leaked: ["▲", "text-error"],
  weak: ["▲", "text-error"],
  reused: ["◆", "text-warning"],
  expired: ["▲", "text-error"],
  "breaks-policy": ["◆", "text-warning"],
  "expires-soon": ["◔", "text-warning"],
  old: ["◔", "text-warning"],
  current: ["●", "text-success"],
};

export function State({ word }: { word: string | null | undefined }) {
  if (!word) return <span className="quiet">not yet</span>;
  const [shape, colour] = LOOKS[word] ?? ["○", "quiet"];
  return (
    <span className={`whitespace-nowrap ${colour}`}>
      <span aria-hidden="true">{shape}</span> {word.replaceAll("-", " ")}
    </span>
  );
}

/** A moment, in the reader's own time zone. */
export function When({ at }: { at: string | null | undefined }) {
  if (!at) return <span className="quiet">–</span>;
  const time = new Date(at);
  const same = time.toDateString() === new Date().toDateString();
  const day = time.toLocaleDateString(undefined, {
    day: "numeric",
    month: "short",
    year: time.getFullYear() === new Date().getFullYear() ? undefined : "numeric",
  });
  const clock = time.toLocaleTimeString(undefined, { hour: "2-digit", minute: "2-digit" });
  return (
    <time dateTime={at} title={time.toLocaleString()} className="whitespace-nowrap tabular-nums">
      {same ? clock : `${day}, ${clock}`}
    </time>
  );
}

/** How long is left until a moment; counts down by itself. */
export function Left({ until }: { until: string }) {
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 1000);
    return () => clearInterval(timer);
  }, []);
  const seconds = Math.max(0, Math.round((Date.parse(until) - now) / 1000));
  const hours = Math.floor(seconds / 3600);
  const minutes = Math.floor(seconds / 60) % 60;
  return (
    <span className="tabular-nums">
      {hours > 0 ? `${hours} h ${minutes} min` : minutes > 0 ? `${minutes} min` : `${seconds} s`}
    </span>
  );
}

/** What went wrong, and what to do. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) return null;
  const problem =
    error instanceof Problem ? error : new Problem("", 0, String(error), "Try again.", {});
  return (
    <div role="alert" className="my-2 rounded border-l-4 border-error bg-base-200 px-3 py-2">
      <p className="font-semibold">{problem.detail}</p>
      <p>{problem.advice}</p>
    </div>
  );
}

/** An empty place that teaches the next step. */
export function Empty({ children }: { children: ReactNode }) {
  return <p className="quiet px-1 py-3">{children}</p>;
}

export function Card({
  title,
  actions,
  children,
}: {
  title: string;
  actions?: ReactNode;
  children: ReactNode;
}) {
  const id = useId();
  return (
    <section
      aria-labelledby={id}
      className="min-w-0 rounded-box border border-base-300 bg-base-100 p-3"
    >
      <div className="mb-1 flex flex-wrap items-baseline justify-between gap-2">
        <h2 id={id} className="text-base font-semibold">
          {title}
        </h2>
        {actions}
      </div>
      {children}
    </section>
  );
}

/** A button that waits for its own work and shows what went wrong. `of` says to a screen reader which
 * thing it is for, where many stand below each other. */
export function Act({
  label,
  of,
  run,
  after = [],
  look = "btn-sm",
  confirm,
}: {
  label: string;
  of?: string;
  run: () => Promise<unknown>;
  after?: string[];
  look?: string;
  confirm?: string;
}) {
  const client = useQueryClient();
  const work = useMutation({
    mutationFn: run,
    onSettled: () => Promise.all(after.map((key) => client.invalidateQueries({ queryKey: [key] }))),
  });
  const click = () => {
    if (!confirm || window.confirm(confirm)) work.mutate();
  };
  return (
    <span>
      <button
        type="button"
        className={`btn ${look} whitespace-nowrap`}
        aria-label={of && `${label} ${of}`}
        onClick={click}
        disabled={work.isPending}
        aria-busy={work.isPending}
      >
        {label}
        {work.isPending && " …"}
      </button>
      <Trouble error={work.error} />
    </span>
  );
}

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

/** A label above an input, and a hint below it. */
function Labelled({
  label,
  hint,
  children,
}: {
  label: string;
  hint?: string;
  children: (id: string, describedBy: string | undefined) => ReactNode;
}) {
  const id = useId();
  return (
    <div>
      <label htmlFor={id} className="block text-sm">
        {label}
      </label>
      {children(id, hint ? `${id}-hint` : undefined)}
      {hint && (
        <p id={`${id}-hint`} className="quiet text-sm">
          {hint}
        </p>
      )}
    </div>
  );
}

export function Field({
  label,
  hint,
  ...rest
}: { label: string; name: string; hint?: string } & React.InputHTMLAttributes<HTMLInputElement>) {
  return (
    <Labelled label={label} hint={hint}>
      {(id, describedBy) => (
        <input
          id={id}
          className="input input-sm w-full"
          aria-describedby={describedBy}
          autoComplete="off"
          {...rest}
        />
      )}
    </Labelled>
  );
}

/** A field of several lines. */
export function Lines({
  label,
  hint,
  ...rest
}: {
  label: string;
  name: string;
  hint?: string;
} & React.TextareaHTMLAttributes<HTMLTextAreaElement>) {
  return (
    <Labelled label={label} hint={hint}>
      {(id, describedBy) => (
        <textarea
          id={id}
          rows={3}
          className="textarea textarea-sm w-full"
          aria-describedby={describedBy}
          autoComplete="off"
          {...rest}
        />
      )}
    </Labelled>
  );
}

export function Choice({
  label,
  options,
  ...rest
}: {
  label: string;
  name: string;
  options: [string, string][];
} & React.SelectHTMLAttributes<HTMLSelectElement>) {
  return (
    <Labelled label={label}>
      {(id) => (
        <select id={id} className="select select-sm w-full" {...rest}>
          {options.map(([value, text]) => (
            <option key={value} value={value}>
              {text}
            </option>
          ))}
        </select>
      )}
    </Labelled>
  );
}

/** A part that unfolds. */
export function Fold({
  label,
  wide,
  children,
}: {
  label: string;
  wide?: boolean;
  children: (close: () => void) => ReactNode;
}) {
  const [open, setOpen] = useState(false);
  return (
    <div>
      <button
        type="button"
        className="btn btn-ghost btn-sm"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
      >
        {open ? "▾" : "▸"} {label}
      </button>
      {open && (
        <div
          className={`mt-1 rounded-box border border-base-300 bg-base-200 p-3 ${wide ? "" : "max-w-md"}`}
        >
          {children(() => setOpen(false))}
        </div>
      )}
    </div>
  );
}

export function Table({
  heads,
  children,
  label,
}: {
  heads: string[];
  children: ReactNode;
  label: string;
}) {
  return (
    <div className="overflow-x-auto" role="region" aria-label={label} tabIndex={0}>
      <table className="table table-sm">
        <thead>
          <tr>
            {heads.map((head) => (
              <th key={head} scope="col">
                {head}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </table>
    </div>
  );
}

/** A text field's value out of form data. */
export function text(data: FormData, name: string): string {
  const value = data.get(name);
  return typeof value === "string" ? value : "";
}

/** A field that has one of a few words. */
export const word = <T extends string>(data: FormData, name: string) => text(data, name) as T;

/** A question before something is done, with what it would change. */
export function Ask({
  title,
  children,
  label,
  run,
  close,
  after = [],
}: {
  title: string;
  children: ReactNode;
  label: string;
  run: () => Promise<unknown>;
  close: () => void;
  after?: string[];
}) {
  const box = useRef<HTMLDialogElement>(null);
  const id = useId();
  const client = useQueryClient();
  const work = useMutation({
    mutationFn: run,
    onSuccess: async () => {
      await Promise.all(after.map((key) => client.invalidateQueries({ queryKey: [key] })));
      close();
    },
  });
  useEffect(() => box.current?.showModal(), []);
  return (
    <dialog
      ref={box}
      aria-labelledby={id}
      onClose={close}
      className="m-auto w-[min(34rem,94vw)] rounded-box border border-base-300 bg-base-100 p-4 text-base-content backdrop:bg-black/40"
    >
      <h2 id={id} className="mb-2 text-base font-semibold">
        {title}
      </h2>
      {children}
      <Trouble error={work.error} />
      <div className="mt-3 flex gap-2">
        <button
          type="button"
          className="btn btn-primary btn-sm"
          onClick={() => work.mutate()}
          disabled={work.isPending}
        >
          {label}
        </button>
        <button type="button" className="btn btn-sm" onClick={close}>
          Cancel
        </button>
      </div>
    </dialog>
  );
}

/** Hands a file to the browser, to be kept under a name. */
export function keepFile(file: Blob, name: string): void {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(file);
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}

interface Said {
  text: string;
  undo?: () => Promise<unknown>;
  label: string;
}

/** Says what was done, with a way back where there is one. */
export function told(text: string, undo?: () => Promise<unknown>, label = "Undo"): void {
  window.dispatchEvent(new CustomEvent<Said>("told", { detail: { text, undo, label } }));
}

/** Where what was done is said. */
export function Told() {
  const client = useQueryClient();
  const [said, setSaid] = useState<Said | null>(null);
  useEffect(() => {
    let timer = 0;
    const hear = (event: Event) => {
      setSaid((event as CustomEvent<Said>).detail);
      clearTimeout(timer);
      timer = window.setTimeout(() => setSaid(null), 15_000);
    };
    const wait = (event: Event) =>
      told(`${(event as CustomEvent<string>).detail}: this waits for a second person.`);
    window.addEventListener("told", hear);
    window.addEventListener("pending-act", wait);
    return () => {
      window.removeEventListener("told", hear);
      window.removeEventListener("pending-act", wait);
    };
  }, []);
  const undo = async () => {
    const back = said?.undo;
    setSaid(null);
    if (!back) return;
    try {
      await back();
      told(said.label === "Undo" ? "Undone." : "Done.");
    } catch (error) {
      told(error instanceof Problem ? `${error.detail} ${error.advice}` : String(error));
    }
    await client.invalidateQueries();
  };
  return (
    <div
      role="status"
      className="pointer-events-none fixed inset-x-0 bottom-3 z-20 flex justify-center"
    >
      {said && (
        <p className="pointer-events-auto flex items-center gap-3 rounded-box bg-neutral px-4 py-2 text-neutral-content shadow-lg">
          {said.text}
          {said.undo && (
            <button type="button" className="link font-semibold" onClick={() => void undo()}>
              {said.label}
            </button>
          )}
        </p>
      )}
    </div>
  );
}
