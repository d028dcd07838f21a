// The vault: the tree, the list of a folder, and one credential.

import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useMemo, useRef, useState } from "react";
import { Link, useLocation } from "wouter";
import { type Credential, type CredentialItem, type Folder, type Me, type Page, all, api } from "../api";
import { Card, Empty, Field, State, Trouble } from "../parts";
import { Detail } from "./credential";
import { FolderTools } from "./folder";

function Tree({ folders, open }: { folders: Folder[]; open: string | undefined }) {
  const [, go] = useLocation();
  const [shut, setShut] = useState<Set<string>>(new Set());
  const [filter, setFilter] = useState("");
  const depth = (folder: Folder) => folder.path.split("/").length - 2;
  const parents = useMemo(() => new Set(folders.map((folder) => folder.parent)), [folders]);
  const seen = folders.filter((folder) => {
    if (filter) return folder.path.toLowerCase().includes(filter.toLowerCase());
    return !folders.some((above) => shut.has(above.id) && folder.path.startsWith(`${above.path}/`));
  });
  const toggle = (id: string, close: boolean) => {
    const next = new Set(shut);
    if (close) next.add(id);
    else next.delete(id);
    setShut(next);
  };
  const pressed = (event: KeyboardEvent, at: number, folder: Folder) => {
    const move = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    if (move) {
      event.preventDefault();
      const list = event.currentTarget.closest("ul");
      list?.querySelectorAll<HTMLElement>("a")[at + move]?.focus();
    }
    if (event.key === "ArrowLeft") toggle(folder.id, true);
    if (event.key === "ArrowRight") toggle(folder.id, false);
    if (event.key === "Enter") go(`/vault/${folder.id}`);
  };
  return (
    <nav aria-label="Folders">
      <Field label="Filter folders" name="filter" value={filter} onChange={(event) => setFilter(event.target.value)} />
      <ul className="mt-1">
        {seen.map((folder, at) => (
          <li key={folder.id} className="flex items-center" style={{ paddingLeft: `${depth(folder) * 0.9}rem` }}>
            {parents.has(folder.id) ? (
              <button type="button" className="w-5" aria-label={shut.has(folder.id) ? `Unfold ${folder.name}` : `Fold ${folder.name}`} aria-expanded={!shut.has(folder.id)} onClick={() => toggle(folder.id, !shut.has(folder.id))}>
                {shut.has(folder.id) ? "▸" : "▾"}
              </button>
            ) : (
              <span className="w-5" />
            )}
            <Link
              href={`/vault/${folder.id}`}
              onKeyDown={(event) => pressed(event, at, folder)}
              aria-current={folder.id === open ? "true" : undefined}
              className={`grow truncate rounded px-1.5 py-0.5 ${folder.id === open ? "bg-primary text-primary-content" : "hover:bg-base-200"} ${folder.level ? "" : "italic"}`}
              title={folder.level ? `${folder.path} (${folder.level})` : `${folder.path}: only on the way to something below`}
            >
              {folder.name}
              {folder.closed && <span title="closed: grants from above stop here"> ⊘</span>}
            </Link>
          </li>
        ))}
      </ul>
    </nav>
  );
}

function Items({ folder, open }: { folder: string | undefined; open: string | undefined }) {
  const [find, setFind] = useState("");
  const box = useRef<HTMLDivElement>(null);
  const pages = useInfiniteQuery({
    queryKey: ["credentials", folder, find],
    initialPageParam: "",
    queryFn: ({ pageParam }) => api.get<Page<CredentialItem>>(`/credentials?limit=200&folder=${folder ?? ""}&find=${encodeURIComponent(find)}&cursor=${pageParam}`),
    getNextPageParam: (page) => page.next,
  });
  const items = pages.data?.pages.flatMap((page) => page.items) ?? [];
  const rows = useVirtualizer({
    count: items.length,
    getScrollElement: () => box.current,
    estimateSize: () => 50,
    overscan: 12,
    onChange: (instance) => {
      const last = instance.getVirtualItems().at(-1);
      if (last && last.index >= items.length - 20 && pages.hasNextPage && !pages.isFetchingNextPage) void pages.fetchNextPage();
    },
  });
  const pressed = (event: KeyboardEvent<HTMLElement>) => {
    const move = event.key === "ArrowDown" ? "nextElementSibling" : event.key === "ArrowUp" ? "previousElementSibling" : null;
    const next = move && event.currentTarget.parentElement?.[move]?.querySelector("a");
    if (next instanceof HTMLElement) {
      event.preventDefault();
      next.focus();
    }
  };
  return (
    <div className="flex min-h-0 flex-col">
      <Field label={folder ? "Find in this folder" : "Find in all folders"} name="find" value={find} onChange={(event) => setFind(event.target.value)} />
      <Trouble error={pages.error} />
      {pages.isSuccess && items.length === 0 && <Empty>{find ? "Nothing here holds this text." : "Nothing here that you may know of. If you may change this folder, add a credential above."}</Empty>}
      <div ref={box} className="mt-1 max-h-[70dvh] min-h-40 overflow-y-auto">
        <ul className="relative" style={{ height: `${rows.getTotalSize()}px` }}>
          {rows.getVirtualItems().map((row) => {
            const item = items[row.index];
            if (!item) return null;
            return (
              <li key={item.id} className="absolute inset-x-0" style={{ top: `${row.start}px`, height: `${row.size}px` }}>
                <Link href={`/vault/${folder ?? item.folder}/${item.id}`} onKeyDown={pressed} aria-current={item.id === open ? "true" : undefined} className={`block h-full rounded px-2 py-1 ${item.id === open ? "bg-base-300" : "hover:bg-base-200"}`}>
                  <span className="flex justify-between gap-2">
                    <span className="truncate font-medium">{item.name}</span>
                    <span className="flex gap-2">
                      {item.gated && <span title="a gate stands before it">⌸ gate</span>}
                      {item.device && <State word={item.check} />}
                    </span>
                  </span>
                  <span className="quiet block truncate text-sm">
                    {item.user_name || "no user name"}
                    {item.device && ` on ${item.device}`}
                    {!folder && `, in ${item.place}`}
                  </span>
                </Link>
              </li>
            );
          })}
        </ul>
      </div>
    </div>
  );
}

export function Vault({ me, folder: named, credential }: { me: Me; folder: string | undefined; credential: string | undefined }) {
  const folders = useQuery({ queryKey: ["folders"], queryFn: () => all<Folder>("/folders", 50_000) });
  const one = useQuery({ queryKey: ["credential", credential], queryFn: () => api.get<Credential>(`/credentials/${credential}`), enabled: Boolean(credential) });
  const folder = named === "-" ? one.data?.folder : named;
  const here = folders.data?.find((each) => each.id === folder);
  return (
    <>
      <h1 className="sr-only">Vault</h1>
      <Trouble error={folders.error} />
      <div className="grid grow items-start gap-3 md:grid-cols-[14rem_1fr] xl:grid-cols-[15rem_22rem_1fr]">
        <Card title="Folders">
          {folders.data?.length === 0 && <Empty>There is no folder that you may see yet.</Empty>}
          <Tree folders={folders.data ?? []} open={folder} />
          <FolderTools me={me} here={here} folders={folders.data ?? []} />
        </Card>
        <Card title={here ? here.path : "All credentials"}>
          <Items folder={folder} open={credential} />
        </Card>
        <div className="min-w-0 md:col-span-2 xl:col-span-1">
          {credential ? (
            <>
              <Trouble error={one.error} />
              {one.data && <Detail key={one.data.id} me={me} it={one.data} />}
            </>
          ) : (
            <Card title="Nothing is open">
              <Empty>Choose a credential from the list, or press Ctrl K and type a part of its name.</Empty>
            </Card>
          )}
        </div>
      </div>
    </>
  );
}
