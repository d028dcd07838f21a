// Secrets and codes as they are read out: large, letter by letter, digits and signs in colours of
// their own.

const tone = (letter: string) =>
  /\d/.test(letter) ? "text-info" : /[A-Za-z]/.test(letter) ? "" : "text-warning";

/** A secret; what differs from another one is underlined. */
export function SecretText({ value, other }: { value: string; other?: string | undefined }) {
  const long = value.length > 60;
  return (
    <output
      aria-label="The secret"
      className={`block max-h-80 overflow-y-auto font-mono break-all whitespace-pre-wrap ${long ? "text-sm" : "text-2xl tracking-wide"}`}
      data-secret="shown"
    >
      {[...value].map((letter, at) => (
        // The same letter can stand anywhere: its place is its identity.
        // oxlint-disable-next-line no-array-index-key
        <span
          key={at}
          className={`${tone(letter)} ${other !== undefined && other[at] !== letter ? "underline decoration-2" : ""}`}
        >
          {letter}
        </span>
      ))}
    </output>
  );
}

/** A one-time code in two groups. */
export function CodeText({ digits }: { digits: string }) {
  return (
    <output aria-label="The one-time code" className="font-mono text-2xl tracking-widest">
      {digits.replace(/^(.{3,4}?)(.{3,4})$/, "$1 $2")}
    </output>
  );
}
