// Sentences of the service, in which a word of the interface stands between backticks.

export function Words({ text }: { text: string }) {
  return (
    <>
      {text.split("`").map((part, at) =>
        at % 2 === 1 ? (
          // The same word can stand in a sentence twice: its place is its identity.
          // oxlint-disable-next-line no-array-index-key
          <span key={at} className="font-mono text-[0.95em]">
            {part}
          </span>
        ) : (
          part
        ),
      )}
    </>
  );
}
