// Tabs that keep their place in the address, so that a link leads to one of them.

import { Tabs as Base } from "@base-ui/react/tabs";
import type { ReactNode } from "react";
import { useLocation, useSearch } from "wouter";

export interface Tab {
  name: string;
  count?: number | undefined;
  show: () => ReactNode;
}

/** One part of the address's query, and how to set it. */
export function useQueryPart(part: string): [string, (value: string) => void] {
  const [path, go] = useLocation();
  const search = useSearch();
  const set = (value: string) => {
    const next = new URLSearchParams(window.location.search);
    if (value) next.set(part, value);
    else next.delete(part);
    const text = next.toString();
    go(text ? `${path}?${text}` : path, { replace: true });
  };
  return [new URLSearchParams(search).get(part) ?? "", set];
}

export function Tabs({ label, tabs, part = "tab" }: { label: string; tabs: Tab[]; part?: string }) {
  const [chosen, choose] = useQueryPart(part);
  const first = tabs[0]?.name ?? "";
  const slug = (name: string) => name.toLowerCase().replaceAll(" ", "-");
  const value = tabs.some((tab) => slug(tab.name) === chosen) ? chosen : slug(first);
  return (
    <Base.Root
      value={value}
      onValueChange={(next: string) => choose(next === slug(first) ? "" : next)}
    >
      <Base.List
        aria-label={label}
        className="flex gap-1 overflow-x-auto overflow-y-hidden border-b border-base-300"
      >
        {tabs.map((tab) => (
          <Base.Tab
            key={tab.name}
            value={slug(tab.name)}
            className="cursor-pointer border-b-2 border-transparent px-2 py-2 whitespace-nowrap data-active:border-primary data-active:font-semibold"
          >
            {tab.name}
            {tab.count !== undefined && <span className="quiet ml-1 font-normal">{tab.count}</span>}
          </Base.Tab>
        ))}
      </Base.List>
      {tabs.map((tab) => (
        <Base.Panel key={tab.name} value={slug(tab.name)} className="pt-3 outline-offset-4">
          {tab.show()}
        </Base.Panel>
      ))}
    </Base.Root>
  );
}
