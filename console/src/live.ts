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
    const source = new EventSource("/api/v1/live");
    const again = (keys: string[]) => {
      for (const key of keys) void client.invalidateQueries({ queryKey: [key] });
    };
    for (const [topic, keys] of Object.entries(SHOWS)) source.addEventListener(topic, () => again(keys));
    // What a part of a page did without a form.
    const asked = (event: Event) => again((event as CustomEvent<string[]>).detail);
    window.addEventListener("again", asked);
    const everything = () => again(Object.values(SHOWS).flat());
    // After a break, what was missed is unknown.
    source.addEventListener("hello", everything);
    source.addEventListener("all", everything);
    return () => {
      window.removeEventListener("again", asked);
      source.close();
    };
  }, [client]);
}
