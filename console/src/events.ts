// Live news: when something changed on the service, what shows it is asked for again.

import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

const SHOWS: Record<string, string[]> = {
  job: ["jobs", "upkeep", "overview", "credential"],
  request: ["requests", "overview"],
  checkout: ["checkouts", "overview", "credential", "requests"],
};

export function useLive(): void {
  const client = useQueryClient();
  useEffect(() => {
    let source: EventSource | undefined;
    const again = (keys: string[]) => {
      for (const key of keys) void client.invalidateQueries({ queryKey: [key] });
    };
    const everything = () => again(Object.values(SHOWS).flat());
    const open = () => {
      source?.close();
      source = new EventSource("/api/v1/events");
      for (const [topic, keys] of Object.entries(SHOWS))
        source.addEventListener(topic, () => again(keys));
      // After a break, what was missed is unknown.
      source.addEventListener("hello", everything);
      source.addEventListener("all", everything);
    };
    // A browser keeps pages that one has left, and opens only a few lines to one service: a page that
    // nobody sees must not hold one.
    const leave = () => source?.close();
    const back = (event: PageTransitionEvent) => {
      if (event.persisted) open();
    };
    // What a part of a page did without a form.
    const asked = (event: Event) => again((event as CustomEvent<string[]>).detail);
    open();
    window.addEventListener("pagehide", leave);
    window.addEventListener("pageshow", back);
    window.addEventListener("again", asked);
    return () => {
      window.removeEventListener("pagehide", leave);
      window.removeEventListener("pageshow", back);
      window.removeEventListener("again", asked);
      leave();
    };
  }, [client]);
}
