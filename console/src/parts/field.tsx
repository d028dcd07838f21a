// Fields of forms: a label above, a hint below.

import { type ReactNode, useId } from "react";

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

/** A text field's value out of form data. */
export function text(data: FormData, name: string): string {
  const value = data.get(name);
  return typeof value === "string" ? value : "";
}

/** A field that has one of a few words. */
export const word = <T extends string>(data: FormData, name: string) => text(data, name) as T;
