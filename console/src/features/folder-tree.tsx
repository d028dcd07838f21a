// The tree of folders: filter, fold, keyboard, and a place to drop things.

import {
  ChevronDown,
  ChevronRight,
  EllipsisVertical,
  Folder as FolderIcon,
  FolderOpen,
  ListFilter,
  Lock,
  Users,
} from "lucide-react";
import { type KeyboardEvent, type RefObject, memo, useMemo, useRef, useState } from "react";
import { Link, useLocation } from "wouter";
import type { Folder } from "../api";
import { Menu } from "../parts";
import { useDrawnRows } from "../parts/drawn-rows";
import { useLatest } from "../parts/latest";
import { atLeast } from "./access-levels";
import { type Load, MoveAsk, drag, useCut } from "./drag-and-drop";

const ROW = 29;

interface Acts {
  toggle: (id: string, close: boolean) => void;
  pressed: (event: KeyboardEvent, at: number, folder: Folder) => void;
  dropped: (to: Folder) => void;
  setOver: (id: string) => void;
}

const Row = memo(function Row({
  folder,
  at,
  start,
  parent,
  shut,
  open,
  over,
  acts,
}: {
  folder: Folder;
  at: number;
  start: number;
  parent: boolean;
  shut: boolean;
  open: boolean;
  over: boolean;
  acts: RefObject<Acts>;
}) {
  const depth = folder.path.split("/").length - 2;
  return (
    <li
      className="absolute inset-x-0 flex items-center"
      data-row={folder.id}
      style={{
        top: `${start}px`,
        height: `${ROW}px`,
        paddingLeft: `${Math.min(depth, 12) * 0.9}rem`,
      }}
    >
      {parent ? (
        <button
          type="button"
          className="grid size-6 shrink-0 cursor-pointer place-items-center"
          aria-label={shut ? `Expand ${folder.name}` : `Collapse ${folder.name}`}
          aria-expanded={!shut}
          onClick={() => acts.current.toggle(folder.id, !shut)}
        >
          {shut ? (
            <ChevronRight className="size-3.5" aria-hidden="true" />
          ) : (
            <ChevronDown className="size-3.5" aria-hidden="true" />
          )}
        </button>
      ) : (
        <span className="w-6 shrink-0" />
      )}
      <Link
        href={`/vault/${folder.id}`}
        draggable={atLeast(folder.level, "steward")}
        onDragStart={() => drag.begin({ items: [], folder })}
        onDragOver={(event) => {
          if (!drag.is() || !atLeast(folder.level, "edit")) return;
          event.preventDefault();
          acts.current.setOver(folder.id);
        }}
        onDragLeave={() => acts.current.setOver("")}
        onDrop={(event) => {
          event.preventDefault();
          acts.current.dropped(folder);
        }}
        onKeyDown={(event) => acts.current.pressed(event, at, folder)}
        aria-current={open ? "true" : undefined}
        className={`flex h-[27px] min-w-0 grow items-center gap-2 rounded-field px-1.5 ${open ? "bg-secondary font-semibold text-primary" : "hover:bg-base-200"} ${over ? "outline-2 outline-primary" : ""} ${folder.level ? "" : "italic"}`}
        title={
          folder.level
            ? `${folder.path} (${folder.level})`
            : `${folder.path}: only on the way to something below`
        }
      >
        {open ? (
          <FolderOpen className="size-4 shrink-0" aria-hidden="true" />
        ) : (
          <FolderIcon className="size-4 shrink-0" aria-hidden="true" />
        )}
        <span className="grow truncate">{folder.name}</span>
        {folder.closed && (
          <Lock className="size-3.5 shrink-0" aria-label="closed: does not inherit grants" />
        )}
        {folder.own_grants && (
          <Users className="size-3.5 shrink-0" aria-label="shared: has grants of its own" />
        )}
      </Link>
    </li>
  );
});

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
  const rows = useDrawnRows({ count: seen.length, box, height: ROW, around: 12 });
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
      rows.scrollTo(at + move);
      requestAnimationFrame(() =>
        box.current?.querySelector<HTMLElement>(`[data-row="${next.id}"] a`)?.focus(),
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
  const acts = useLatest<Acts>({ toggle, pressed, dropped, setOver });
  return (
    <nav aria-label="Folders" className="flex min-h-0 grow flex-col">
      <div className="flex items-center gap-1 p-2">
        <label className="input input-sm grow">
          <ListFilter className="quiet size-4" aria-hidden="true" />
          <span className="sr-only">Filter folders</span>
          <input
            name="filter"
            placeholder="Filter folders"
            value={filter}
            onChange={(event) => setFilter(event.target.value)}
          />
        </label>
        <Menu
          label="More about the folders"
          trigger={<EllipsisVertical className="size-4" aria-hidden="true" />}
          groups={[
            [
              { label: "Expand all", run: () => setShut(new Set()) },
              {
                label: "Collapse all",
                run: () =>
                  setShut(
                    new Set(
                      folders.filter((folder) => parents.has(folder.id)).map((folder) => folder.id),
                    ),
                  ),
              },
            ],
          ]}
        />
      </div>
      {cut && (
        <p className="quiet px-3 pb-1" role="status">
          {cut.folder ? cut.folder.name : `${cut.items.length} cut`}: choose a folder and press Ctrl
          V{" "}
          <button type="button" className="link" onClick={() => setCut(null)}>
            or leave it
          </button>
        </p>
      )}
      <div
        ref={box}
        className="min-h-40 grow overflow-y-auto bg-base-100 px-1.5 contain-content will-change-scroll"
      >
        <ul className="relative" style={{ height: `${rows.height}px` }}>
          {rows.order.map((index) => {
            const folder = seen[index];
            if (!folder) return null;
            return (
              <Row
                key={index % rows.elements}
                folder={folder}
                at={index}
                start={index * ROW}
                parent={parents.has(folder.id)}
                shut={shut.has(folder.id)}
                open={folder.id === open}
                over={folder.id === over}
                acts={acts}
              />
            );
          })}
        </ul>
      </div>
      {moving && <MoveAsk load={moving.load} to={moving.to} close={() => setMoving(null)} />}
    </nav>
  );
}
