// The tree of folders: filter, fold, keyboard, and a place to drop things.

import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useMemo, useRef, useState } from "react";
import { Link, useLocation } from "wouter";
import type { Folder } from "../api";
import { Field } from "../components";
import { atLeast } from "./access-levels";
import { type Load, MoveAsk, drag, useCut } from "./drag-and-drop";

const ROW = 29;

export function Tree({ folders, open }: { folders: Folder[]; open: string | undefined }) {
  const [, go] = useLocation();
  const [shut, setShut] = useState<Set<string>>(new Set());
  const [filter, setFilter] = useState("");
  const [over, setOver] = useState("");
  const [moving, setMoving] = useState<{ load: Load; to: Folder } | null>(null);
  const [cut, setCut] = useCut();
  const box = useRef<HTMLDivElement>(null);
  const parents = useMemo(() => new Set(folders.map((folder) => folder.parent)), [folders]);
  // The folders come in the order of their paths: what is below a shut one follows it.
  const seen = useMemo(() => {
    if (filter)
      return folders.filter((folder) => folder.path.toLowerCase().includes(filter.toLowerCase()));
    const out: Folder[] = [];
    const hidden = new Set<string>();
    for (const folder of folders) {
      if (folder.parent && (hidden.has(folder.parent) || shut.has(folder.parent)))
        hidden.add(folder.id);
      else out.push(folder);
    }
    return out;
  }, [folders, filter, shut]);
  const rows = useVirtualizer({
    count: seen.length,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 15,
  });
  const toggle = (id: string, close: boolean) => {
    const next = new Set(shut);
    if (close) next.add(id);
    else next.delete(id);
    setShut(next);
  };
  const paste = (to: Folder) => {
    if (cut && atLeast(to.level, "edit")) setMoving({ load: cut, to });
    setCut(null);
  };
  const pressed = (event: KeyboardEvent, at: number, folder: Folder) => {
    const move = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    if (move) {
      event.preventDefault();
      const next = seen[at + move];
      if (!next) return;
      rows.scrollToIndex(at + move);
      requestAnimationFrame(() =>
        box.current?.querySelector<HTMLElement>(`a[data-folder="${next.id}"]`)?.focus(),
      );
    }
    if (event.key === "ArrowLeft") toggle(folder.id, true);
    if (event.key === "ArrowRight") toggle(folder.id, false);
    if (event.key === "Enter") go(`/vault/${folder.id}`);
    if ((event.ctrlKey || event.metaKey) && event.key === "x" && atLeast(folder.level, "steward"))
      setCut({ items: [], folder });
    if ((event.ctrlKey || event.metaKey) && event.key === "v") paste(folder);
  };
  const dropped = (to: Folder) => {
    setOver("");
    const load = drag.take();
    if (load && load.folder?.id !== to.id && atLeast(to.level, "edit")) setMoving({ load, to });
  };
  return (
    <nav aria-label="Folders">
      <Field
        label="Filter folders"
        name="filter"
        value={filter}
        onChange={(event) => setFilter(event.target.value)}
      />
      <div className="mt-1 flex gap-1">
        <button type="button" className="btn btn-ghost btn-xs" onClick={() => setShut(new Set())}>
          Expand all
        </button>
        <button
          type="button"
          className="btn btn-ghost btn-xs"
          onClick={() =>
            setShut(
              new Set(
                folders.filter((folder) => parents.has(folder.id)).map((folder) => folder.id),
              ),
            )
          }
        >
          Collapse all
        </button>
      </div>
      {cut && (
        <p className="quiet text-sm" role="status">
          {cut.folder ? cut.folder.name : `${cut.items.length} cut`}: choose a folder and press Ctrl
          V{" "}
          <button type="button" className="link" onClick={() => setCut(null)}>
            or leave it
          </button>
        </p>
      )}
      <div ref={box} className="max-h-[55dvh] overflow-y-auto">
        <ul className="relative" style={{ height: `${rows.getTotalSize()}px` }}>
          {rows.getVirtualItems().map((row) => {
            const folder = seen[row.index];
            if (!folder) return null;
            const depth = folder.path.split("/").length - 2;
            return (
              <li
                key={folder.id}
                className="absolute inset-x-0 flex items-center"
                style={{
                  top: `${row.start}px`,
                  height: `${ROW}px`,
                  paddingLeft: `${Math.min(depth, 12) * 0.9}rem`,
                }}
              >
                {parents.has(folder.id) ? (
                  <button
                    type="button"
                    className="w-6 shrink-0"
                    aria-label={
                      shut.has(folder.id) ? `Expand ${folder.name}` : `Collapse ${folder.name}`
                    }
                    aria-expanded={!shut.has(folder.id)}
                    onClick={() => toggle(folder.id, !shut.has(folder.id))}
                  >
                    {shut.has(folder.id) ? "▸" : "▾"}
                  </button>
                ) : (
                  <span className="w-6 shrink-0" />
                )}
                <Link
                  href={`/vault/${folder.id}`}
                  data-folder={folder.id}
                  draggable={atLeast(folder.level, "steward")}
                  onDragStart={() => drag.begin({ items: [], folder })}
                  onDragOver={(event) => {
                    if (!drag.is() || !atLeast(folder.level, "edit")) return;
                    event.preventDefault();
                    setOver(folder.id);
                  }}
                  onDragLeave={() => setOver("")}
                  onDrop={(event) => {
                    event.preventDefault();
                    dropped(folder);
                  }}
                  onKeyDown={(event) => pressed(event, row.index, folder)}
                  aria-current={folder.id === open ? "true" : undefined}
                  className={`grow truncate rounded px-1.5 py-0.5 ${folder.id === open ? "bg-primary text-primary-content" : "hover:bg-base-200"} ${folder.id === over ? "outline-2 outline-primary" : ""} ${folder.level ? "" : "italic"}`}
                  title={
                    folder.level
                      ? `${folder.path} (${folder.level})`
                      : `${folder.path}: only on the way to something below`
                  }
                >
                  {folder.name}
                  {folder.closed && <span title="closed: does not inherit grants"> ⊘</span>}
                  {folder.shared && (
                    <span
                      className={folder.id === open ? "" : "quiet"}
                      title={
                        folder.own_grants
                          ? "Shared: has grants of its own"
                          : "shared: by a grant from above"
                      }
                    >
                      {folder.own_grants ? " ◆" : " ◇"}
                    </span>
                  )}
                </Link>
              </li>
            );
          })}
        </ul>
      </div>
      {moving && <MoveAsk load={moving.load} to={moving.to} close={() => setMoving(null)} />}
    </nav>
  );
}
