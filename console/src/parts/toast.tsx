// What was done, said at the bottom of the window, with a way back where there is one.

import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Problem } from "../api";

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
