// Moving by drag and drop or by cutting and pasting, with a look at whose access would change.

import { useSyncExternalStore } from "react";
import { type CredentialItem, type Folder, Problem, api, result, ifMatch } from "../api";
import { Ask, told } from "../parts";
import { Shifts } from "./access-preview";

/** What is on its way: credentials, or one folder. */
export interface Load {
  items: Pick<CredentialItem, "id" | "name" | "folder">[];
  folder?: Folder;
}

let cut: Load | null = null;
const listeners = new Set<() => void>();

function putCut(load: Load | null): void {
  cut = load;
  for (const changed of listeners) changed();
}

/** What was cut and waits to be pasted. */
export function useCut(): [Load | null, (load: Load | null) => void] {
  const now = useSyncExternalStore(
    (changed) => {
      listeners.add(changed);
      return () => listeners.delete(changed);
    },
    () => cut,
  );
  return [now, putCut];
}

/** What is being dragged. The browser lets only texts travel, and nobody else may read them. */
let dragged: Load | null = null;
export const drag = {
  begin: (load: Load) => {
    dragged = load;
  },
  take: (): Load | null => {
    const load = dragged;
    dragged = null;
    return load;
  },
  is: () => dragged !== null,
};

/** Does the same to each, one after the other; says of each that failed why. */
export async function each<T extends { name: string }>(
  things: T[],
  act: (thing: T) => Promise<unknown>,
): Promise<string[]> {
  const failed: string[] = [];
  for (const thing of things) {
    try {
      await act(thing);
    } catch (error) {
      failed.push(`${thing.name}: ${error instanceof Problem ? error.detail : String(error)}`);
    }
  }
  return failed;
}

/** Asks before a move, and does it. */
export function MoveAsk({ load, to, close }: { load: Load; to: Folder; close: () => void }) {
  const from = load.items[0]?.folder;
  const what = load.folder
    ? load.folder.path
    : load.items.length === 1
      ? load.items[0]?.name
      : `${load.items.length} credentials`;
  const move = async () => {
    if (load.folder) {
      await result(
        api.PATCH("/api/v1/folders/{folder}", {
          params: { path: { folder: load.folder.id }, header: ifMatch(load.folder.revision) },
          body: { parent: to.id },
        }),
      );
      told(`${load.folder.name} is now in ${to.path}.`);
      return;
    }
    const failed = await each(load.items, async (item) => {
      const it = await result(
        api.GET("/api/v1/credentials/{credential}", { params: { path: { credential: item.id } } }),
      );
      await result(
        api.PATCH("/api/v1/credentials/{credential}", {
          params: { path: { credential: item.id }, header: ifMatch(it.revision) },
          body: { folder: to.id },
        }),
      );
    });
    if (failed.length > 0)
      throw new Problem(
        "",
        409,
        `${load.items.length - failed.length} moved, ${failed.length} not: ${failed.join("; ")}`,
        "What was moved stays moved; check the rest one by one.",
        {},
      );
    const back =
      from && load.items.every((item) => item.folder === from)
        ? () =>
            each(load.items, async (item) =>
              result(
                api.PATCH("/api/v1/credentials/{credential}", {
                  params: {
                    path: { credential: item.id },
                    header: ifMatch(
                      (
                        await result(
                          api.GET("/api/v1/credentials/{credential}", {
                            params: { path: { credential: item.id } },
                          }),
                        )
                      ).revision,
                    ),
                  },
                  body: { folder: from },
                }),
              ),
            )
        : undefined;
    told(`${what} ${load.items.length === 1 ? "is" : "are"} now in ${to.path}.`, back);
  };
  return (
    <Ask
      title={`Move ${what} into ${to.path}?`}
      label="Move"
      run={move}
      close={close}
      after={["credentials", "credential", "folders"]}
    >
      <Shifts
        change={
          load.folder
            ? { folder: { id: load.folder.id, parent: to.id } }
            : { credentials: { ids: load.items.map((item) => item.id), to: to.id } }
        }
      />
    </Ask>
  );
}
