// The fields of a credential by its kind: one form for all kinds.

import type { Kind } from "../api";
import { Field, Lines, text } from "../parts";

export const MAIN = "password";
export const SEED = "one_time_seed";

export function isSecret(holds: string): boolean {
  return holds === "secret" || holds === "secret-note" || holds === "one-time-seed";
}

/** What the fields of a form came to: plain ones, the main secret, the other secrets. */
export function collect(data: FormData, kind: Kind, present: Record<string, string> = {}): { fields: Record<string, string>; password?: string; secrets: Record<string, string> } {
  const fields: Record<string, string> = {};
  const secrets: Record<string, string> = {};
  for (const field of kind.fields) {
    const value = text(data, field.name);
    if (isSecret(field.holds)) {
      if (value && field.name !== MAIN) secrets[field.name] = value;
    } else if (value !== (present[field.name] ?? "")) fields[field.name] = value;
  }
  return { fields, password: text(data, MAIN) || undefined, secrets };
}

/** The inputs of a kind's fields. Of a credential that exists, secrets are never filled in. */
export function KindFields({ kind, present, secretHint }: { kind: Kind; present?: Record<string, string>; secretHint: (field: Kind["fields"][number]) => string | undefined }) {
  return (
    <>
      {kind.fields.map((field) => {
        const shared = { name: field.name, label: field.label };
        const required = field.required && !present && !(field.name === MAIN && kind.generates);
        if (field.holds === "secret-note") return <Lines key={field.name} {...shared} required={required} hint={secretHint(field)} spellCheck={false} />;
        if (isSecret(field.holds)) return <Field key={field.name} {...shared} type="password" autoComplete="new-password" required={required} hint={secretHint(field)} />;
        if (field.holds === "note") return <Lines key={field.name} {...shared} label={`${field.label} (not secret)`} defaultValue={present?.[field.name]} />;
        return <Field key={field.name} {...shared} type={field.holds === "date" ? "date" : "text"} required={field.required} defaultValue={present?.[field.name]} />;
      })}
    </>
  );
}
