// What was typed and not sent yet: nobody loses it by a wrong key or a wrong link.

import { useSyncExternalStore } from "react";
import type { BaseLocationHook } from "wouter";
import { useBrowserLocation } from "wouter/use-browser-location";

const typed = new Set<HTMLFormElement>();

const hold = (event: BeforeUnloadEvent) => event.preventDefault();

/** Marks a form as holding something that was typed, or as holding nothing. */
export function setUnsaved(form: HTMLFormElement, unsaved: boolean): void {
  if (unsaved) typed.add(form);
  else typed.delete(form);
  if (typed.size > 0) window.addEventListener("beforeunload", hold);
  else window.removeEventListener("beforeunload", hold);
}

/** Whether something was typed anywhere, or within a part of the page, and not sent. */
export function unsaved(within?: Element | null): boolean {
  for (const form of typed) {
    if (!form.isConnected) typed.delete(form);
    else if (!within || within.contains(form)) return true;
  }
  return false;
}

let leave: (() => void) | undefined;
const listeners = new Set<() => void>();
const tell = () => {
  for (const listener of listeners) listener();
};

/** A page that waits to be left until somebody says that what was typed may be lost. */
export function useLeaving() {
  const waiting = useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => leave,
  );
  return {
    waiting: waiting !== undefined,
    go: () => {
      const then = leave;
      leave = undefined;
      typed.clear();
      window.removeEventListener("beforeunload", hold);
      tell();
      then?.();
    },
    stay: () => {
      leave = undefined;
      tell();
    },
  };
}

/** The address, which changes only after a question where something would be lost. */
export const useGuardedLocation: BaseLocationHook = (options) => {
  const [path, go] = useBrowserLocation(options as Parameters<typeof useBrowserLocation>[0]);
  const guarded: typeof go = (to, how) => {
    const same = new URL(String(to), window.location.href).pathname === window.location.pathname;
    if (same || !unsaved()) {
      go(to, how);
      return;
    }
    leave = () => go(to, how);
    tell();
  };
  return [path, guarded];
};
