// The fields of a credential by its kind: one form for all kinds.

import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import {
  type Credential,
  type FieldType,
  type Kind,
  type KindField,
  api,
  result,
  fileBody,
} from "../api";
import { Field, Lines, Trouble, text } from "../parts";

export const MAIN = "password";
export const SEED = "one_time_seed";
/** What the short form asks for: name, address, user name, and a generated password. */
const SHORT = ["user_name", "url", "address"];

const SECRETS: FieldType[] = ["secret", "secret-note", "one-time-seed", "ssh-key", "private-key"];

export function isSecret(holds: FieldType): boolean {
  return SECRETS.includes(holds);
}

/** Types of fields, for those who define their own. */
export const TYPES: [FieldType, string][] = [
  ["text", "one line, not secret"],
  ["url", "URLs, one per line"],
  ["note", "several lines, not secret"],
  ["date", "a date"],
  ["certificate", "a certificate (PEM)"],
  ["secret", "one line, secret"],
  ["secret-note", "several lines, secret"],
  ["ssh-key", "an SSH private key"],
  ["private-key", "a private key (PEM)"],
  ["one-time-seed", "a seed of one-time codes"],
];

/** The fields of a credential: those of its kind, then its own. */
export function fieldsOf(
  kind: Kind | undefined,
  it?: Pick<Credential, "extra" | "fields">,
): KindField[] {
  const known = [...(kind?.fields ?? []), ...(it?.extra ?? [])];
  const lost = Object.keys(it?.fields ?? {}).filter(
    (name) => !known.some((field) => field.name === name),
  );
  return [
    ...known,
    ...lost.map((name) => ({
      name,
      label: name,
      holds: "note" as const,
      required: false,
      help: "Its kind no longer has this field; the value is kept.",
    })),
  ];
}

/** What the fields of a form came to: plain ones, the main secret, the other secrets. */
export function collect(
  data: FormData,
  fields: KindField[],
  present: Record<string, string> = {},
): { fields: Record<string, string>; password?: string; secrets: Record<string, string> } {
  const plain: Record<string, string> = {};
  const secrets: Record<string, string> = {};
  for (const field of fields) {
    if (!data.has(field.name)) continue;
    const value = text(data, field.name).replaceAll("\r\n", "\n");
    if (isSecret(field.holds)) {
      if (value && field.name !== MAIN) secrets[field.name] = value;
    } else if (value !== (present[field.name] ?? "")) plain[field.name] = value;
  }
  return {
    fields: plain,
    password: text(data, MAIN).replaceAll("\r\n", "\n") || undefined,
    secrets,
  };
}

/** A seed of one-time codes: typed, pasted, or out of a picture. */
function SeedField({ field, hint }: { field: KindField; hint?: string }) {
  const [seed, setSeed] = useState("");
  const read = useMutation({
    mutationFn: (file: File) => result(api.POST("/api/v1/read-picture", { body: fileBody(file) })),
    onSuccess: (found) => setSeed(found.address),
  });
  return (
    <div>
      <Field
        label={field.label}
        name={field.name}
        type="password"
        autoComplete="new-password"
        value={seed}
        onChange={(event) => setSeed(event.target.value)}
        hint={hint ?? "The seed as base32, or as an otpauth:// URI."}
      />
      <label className="quiet text-sm">
        or a picture of its QR code:{" "}
        <input
          type="file"
          accept="image/png,image/jpeg"
          className="file-input file-input-sm"
          onChange={(event) => event.target.files?.[0] && read.mutate(event.target.files[0])}
        />
      </label>
      {read.isSuccess && seed && <p role="status">The QR code was read; save to keep the seed.</p>}
      <Trouble error={read.error} />
    </div>
  );
}

/** The inputs of fields. Of a credential that exists, secrets are never filled in. */
export function Inputs({
  fields,
  present,
  generates,
  short,
  secretHint,
}: {
  fields: KindField[];
  present?: Record<string, string>;
  generates: boolean;
  short?: boolean;
  secretHint?: (field: KindField) => string | undefined;
}) {
  return (
    <>
      {fields.map((field) => {
        const needed =
          field.required &&
          !(isSecret(field.holds) && (present || (field.name === MAIN && generates)));
        if (short && !SHORT.includes(field.name) && !needed) return null;
        const hint = (isSecret(field.holds) && secretHint?.(field)) || field.help || undefined;
        const shared = { name: field.name, label: field.label, hint, required: needed };
        if (field.holds === "one-time-seed")
          return <SeedField key={field.name} field={field} hint={hint} />;
        if (["secret-note", "ssh-key", "private-key"].includes(field.holds))
          return <Lines key={field.name} {...shared} spellCheck={false} />;
        if (isSecret(field.holds))
          return <Field key={field.name} {...shared} type="password" autoComplete="new-password" />;
        if (field.holds === "note" || field.holds === "certificate")
          return (
            <Lines
              key={field.name}
              {...shared}
              label={`${field.label} (not secret)`}
              defaultValue={present?.[field.name]}
            />
          );
        if (field.holds === "url")
          return (
            <Lines
              key={field.name}
              {...shared}
              rows={2}
              hint={hint ?? "One per line."}
              defaultValue={present?.[field.name]}
            />
          );
        return (
          <Field
            key={field.name}
            {...shared}
            type={field.holds === "date" ? "date" : "text"}
            defaultValue={present?.[field.name]}
          />
        );
      })}
    </>
  );
}

/** Tags as people type them: with commas between. */
export function tagsOf(data: FormData): string[] {
  return splitTags(text(data, "tags"));
}

export function splitTags(typed: string): string[] {
  return typed
    .split(",")
    .map((tag) => tag.trim())
    .filter(Boolean);
}
