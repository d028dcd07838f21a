// The list of credentials: narrowed by every column, many at a time, saved as a search.

import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Search as Magnifier, ShieldHalf, SlidersHorizontal, Star, Users } from "lucide-react";
import {
  type KeyboardEvent,
  type ReactNode,
  type RefObject,
  memo,
  useCallback,
  useEffect,
  useMemo,
  useRef,
  useState,
} from "react";
import { Link } from "wouter";
import { type CredentialItem, api, result, wholeList, ifMatch, type CredentialQuery } from "../api";
import {
  Act,
  Choice,
  Drawer,
  Empty,
  Field,
  Form,
  KindIcon,
  State,
  Trouble,
  text,
  told,
} from "../parts";
import { useDrawnRows } from "../parts/drawn-rows";
import { useLatest } from "../parts/latest";
import { showOrder } from "./neighbours";
import { drag, each, useCut } from "./drag-and-drop";
import { Considered } from "./access-preview";
import { accountOf, addJobs } from "./job-tasks";

const VIEWS: [string, string][] = [
  ["", "All credentials"],
  ["favourites", "My favourites"],
  ["recent", "Recently used by me"],
  ["most-used", "Most used by me"],
  ["mine", "I am a steward"],
  ["shared-with-me", "Shared with me"],
  ["shared-by-me", "Shared by me"],
  ["with-nobody", "Not shared"],
];
const FINDINGS: [string, string][] = [
  ["", "any"],
  ["any", "any finding"],
  ["leaked", "leaked"],
  ["out-of-sync", "out of sync"],
  ["weak", "weak"],
  ["reused", "reused"],
  ["expired", "expired"],
  ["breaks-policy", "breaks its policy"],
  ["expires-soon", "expires soon"],
  ["old", "old"],
];
const CHECKS: [string, string][] = [
  ["", "any"],
  ["in-sync", "in sync"],
  ["out-of-sync", "out of sync"],
  ["locked-out", "locked out"],
  ["unreachable", "unreachable"],
];

type Filters = Record<string, string>;

function Filter({
  filters,
  set,
  view,
  setView,
}: {
  filters: Filters;
  set: (filters: Filters) => void;
  view: string;
  setView: (view: string) => void;
}) {
  const kinds = useQuery({
    queryKey: ["kinds"],
    queryFn: () => wholeList(api.GET("/api/v1/kinds")),
  });
  const tags = useQuery({
    queryKey: ["tags"],
    queryFn: () => wholeList(api.GET("/api/v1/tags")),
  });
  const searches = useQuery({
    queryKey: ["searches"],
    queryFn: () => wholeList(api.GET("/api/v1/searches")),
  });
  const change = (name: string) => (event: { target: { value: string } }) =>
    set({ ...filters, [name]: event.target.value });
  const used = Object.fromEntries(Object.entries(filters).filter(([, value]) => value));
  return (
    <div className="flex flex-col gap-2">
      <Choice
        label="Show"
        name="view"
        value={view}
        onChange={(event) => setView(event.target.value)}
        options={VIEWS}
      />
      {searches.data && searches.data.length > 0 && (
        <div>
          <p className="text-sm">Saved searches</p>
          {searches.data.map((search) => (
            <span key={search.id} className="flex items-baseline justify-between gap-2">
              <button type="button" className="link text-left" onClick={() => set(search.filters)}>
                {search.name}
              </button>
              <Act
                label="Remove"
                of={search.name}
                look="btn-xs btn-ghost"
                run={() =>
                  result(
                    api.DELETE("/api/v1/searches/{search}", {
                      params: { path: { search: search.id } },
                    }),
                  )
                }
                after={["searches"]}
              />
            </span>
          ))}
        </div>
      )}
      <div className="grid gap-2 sm:grid-cols-2">
        <Field label="Name" name="name" value={filters.name ?? ""} onChange={change("name")} />
        <Field label="User name" name="user" value={filters.user ?? ""} onChange={change("user")} />
        <Field
          label="Device"
          name="device"
          value={filters.device ?? ""}
          onChange={change("device")}
        />
        <Choice
          label="Kind"
          name="kind"
          value={filters.kind ?? ""}
          onChange={change("kind")}
          options={[
            ["", "any"],
            ...(kinds.data ?? []).map((kind): [string, string] => [kind.name, kind.label]),
          ]}
        />
        <Choice
          label="Tag"
          name="tag"
          value={filters.tag ?? ""}
          onChange={change("tag")}
          options={[
            ["", "any"],
            ...(tags.data ?? []).map((tag): [string, string] => [
              tag.tag,
              `${tag.tag} (${tag.times})`,
            ]),
          ]}
        />
        <Choice
          label="Last check"
          name="check"
          value={filters.check ?? ""}
          onChange={change("check")}
          options={CHECKS}
        />
        <Choice
          label="Finding"
          name="finding"
          value={filters.finding ?? ""}
          onChange={change("finding")}
          options={FINDINGS}
        />
      </div>
      {Object.keys(used).length > 0 && (
        <Form
          label="Save this search"
          after={["searches"]}
          submit={(data) =>
            result(
              api.POST("/api/v1/searches", { body: { name: text(data, "saved"), filters: used } }),
            )
          }
        >
          <Field label="Under the name" name="saved" required />
        </Form>
      )}
    </div>
  );
}

/** What can be done with many at a time: one result for each that failed. */
/** What moving these to the bin will do. */
function whatRemovingDoes(chosen: CredentialItem[]): string {
  const count = chosen.length;
  const accounts = chosen.filter((item) => item.device !== null).length;
  const names = chosen.slice(0, 5).map((item) => item.name);
  const more = count > names.length ? ` and ${count - names.length} more` : "";
  return [
    `Move ${count === 1 ? "this credential" : `these ${count} credentials`} to the bin: ${names.join(", ")}${more}?`,
    "Nobody can reveal what is in the bin. It can be restored until it is deleted permanently.",
    accounts > 0 &&
      `${accounts} ${accounts === 1 ? "is an account on a device" : "are accounts on devices"}: checks and rotations stop, and the password on the device stays as it is.`,
  ]
    .filter(Boolean)
    .join(" ");
}

export function Bulk({
  chosen,
  clear,
  inTable,
}: {
  chosen: CredentialItem[];
  clear: () => void;
  /** The table says how many are selected, and clears them. */
  inTable?: boolean;
}) {
  const [failed, setFailed] = useState<string[]>([]);
  const [tag, setTag] = useState("");
  const [, setCut] = useCut();
  const run =
    (
      done: string,
      act: (item: CredentialItem) => Promise<unknown>,
      undo?: () => Promise<unknown>,
    ) =>
    async () => {
      const bad = await each(chosen, act);
      setFailed(bad);
      told(`${chosen.length - bad.length} of ${chosen.length} ${done}.`, undo);
      if (bad.length === 0) clear();
    };
  const accounts = chosen.filter((item) => item.device);
  const removals: string[] = [];
  const credential = async (item: CredentialItem) =>
    result(
      api.GET("/api/v1/credentials/{credential}", { params: { path: { credential: item.id } } }),
    );
  const after = ["credentials", "credential", "tags", "bin"];
  const remove = run(
    "are in the bin",
    async (item) => {
      removals.push(
        await result(
          api.DELETE("/api/v1/credentials/{credential}", {
            params: {
              path: { credential: item.id },
              header: ifMatch((await credential(item)).revision),
            },
          }),
        ),
      );
    },
    async () => {
      for (const removal of removals)
        await result(api.POST("/api/v1/bin/{removal}/restore", { params: { path: { removal } } }));
    },
  );
  const addTag = run(`have the tag ${tag}`, async (item) => {
    const it = await credential(item);
    return result(
      api.PATCH("/api/v1/credentials/{credential}", {
        params: { path: { credential: item.id }, header: ifMatch(it.revision) },
        body: { tags: [...it.tags, tag] },
      }),
    );
  });
  return (
    <div
      className={inTable ? "" : "border-t border-base-300 bg-secondary px-3 py-2"}
      role="group"
      aria-label="Selected"
    >
      {!inTable && (
        <p className="mb-1">
          <span className="font-semibold text-primary">{chosen.length} selected</span>{" "}
          <button type="button" className="link" onClick={clear}>
            Clear
          </button>
        </p>
      )}
      <div className="flex flex-wrap items-center gap-2">
        <button type="button" className="btn btn-sm" onClick={() => setCut({ items: chosen })}>
          Cut
        </button>
        {accounts.length > 0 && (
          <Act
            label={`Rotate ${accounts.length}`}
            run={() => addJobs("rotation", accounts.map(accountOf)).then(clear)}
            after={[...after, "jobs", "upkeep"]}
            confirm={`Rotate ${accounts.length === 1 ? "the password" : `${accounts.length} passwords`}? Each account on a device gets a new generated password, on the device and in the vault.${accounts.length < chosen.length ? " Credentials that are not on a device are left out." : ""}`}
          />
        )}
        <Act label="Remove" run={remove} after={after} confirm={whatRemovingDoes(chosen)} />
        <Act
          label="Favourite"
          run={run("are favourites", (item) =>
            result(
              api.PUT("/api/v1/credentials/{credential}/favourite", {
                params: { path: { credential: item.id } },
              }),
            ),
          )}
          after={after}
        />
        <input
          className="input input-sm w-32"
          aria-label="Tag to add"
          placeholder="Tag to add"
          value={tag}
          onChange={(event) => setTag(event.target.value)}
        />
        {tag && (
          <Considered
            label="Add the tag …"
            title={`Add the tag ${tag} to ${chosen.length}`}
            change={{ tags: { ids: chosen.map((item) => item.id), add: [tag] } }}
            run={addTag}
            after={after}
          />
        )}
      </div>
      {failed.length > 0 && (
        <ul role="alert" className="mt-1 border-l-4 border-error pl-2">
          {failed.map((why) => (
            <li key={why}>{why}</li>
          ))}
        </ul>
      )}
    </div>
  );
}

/** The height of a row. */
const ROW = 52;

interface RowProps {
  item: CredentialItem;
  start: number;
  folder: string | undefined;
  here: boolean;
  chosen: boolean;
  choose: (item: CredentialItem) => void;
  load: (item: CredentialItem) => { items: CredentialItem[] };
  pressed: (event: KeyboardEvent<HTMLElement>, item: CredentialItem) => void;
}

const Row = memo(function Row({
  item,
  start,
  folder,
  here,
  chosen,
  choose,
  load,
  pressed,
}: RowProps) {
  return (
    <li
      className={`absolute inset-x-0 flex items-center border-b border-base-300 pl-2 ${here || chosen ? "bg-secondary" : "hover:bg-base-200"}`}
      data-row={item.id}
      style={{ top: `${start}px`, height: `${ROW}px` }}
    >
      <label className="grid size-6 shrink-0 cursor-pointer place-items-center">
        <input
          type="checkbox"
          className="checkbox checkbox-xs"
          aria-label={`Select ${item.name}`}
          checked={chosen}
          onChange={() => choose(item)}
        />
      </label>
      <Link
        href={`/vault/${folder ?? item.folder}/${item.id}`}
        draggable
        onDragStart={() => drag.begin(load(item))}
        onKeyDown={(event) => pressed(event, item)}
        aria-current={here ? "true" : undefined}
        className="flex h-full min-w-0 grow items-center gap-2 px-2 -outline-offset-2"
      >
        <KindIcon kind={item.kind} className="quiet size-4" />
        <span className="min-w-0 grow">
          <span className="flex items-center gap-1.5">
            <span className="truncate font-semibold">{item.name}</span>
            {item.favourite && <Star className="size-3.5 shrink-0" aria-label="a favourite" />}
            {item.gated && <ShieldHalf className="size-3.5 shrink-0" aria-label="behind a gate" />}
            {item.own_grants && (
              <Users className="size-3.5 shrink-0" aria-label="shared: has grants of its own" />
            )}
          </span>
          <span className="quiet block truncate text-[0.8125rem]">
            {item.user_name || "no user name"}
            {item.device && ` on ${item.device}`}
            {!folder && `, in ${item.place}`}
            {item.tags.map((tag) => ` #${tag}`)}
          </span>
        </span>
        <span className="shrink-0 text-[0.8125rem]">
          {item.findings[0] ? (
            <State word={item.findings[0]} />
          ) : (
            item.device && <State word={item.check} />
          )}
        </span>
      </Link>
    </li>
  );
});

/** The visible rows and a few around them. Scrolling renders only this component again. */
const Rows = memo(function Rows({
  items,
  box,
  look,
  folder,
  open,
  chosen,
  choose,
  load,
  pressed,
}: {
  items: CredentialItem[];
  box: RefObject<HTMLDivElement | null>;
  /** Called with the index of the last row rendered. */
  look: (last: number) => void;
  folder: string | undefined;
  open: string | undefined;
  chosen: Map<string, CredentialItem>;
} & Pick<RowProps, "choose" | "load" | "pressed">) {
  const drawn = useDrawnRows({ count: items.length, box, height: ROW, around: 8 });
  const { end, order, elements } = drawn;
  useEffect(() => look(end - 1), [look, end]);
  // This renders at every row scrolled past; the rows change only when a block of them comes.
  const rows = useMemo(
    () =>
      order.map((index) => {
        const item = items[index];
        return (
          item && (
            <Row
              key={index % elements}
              item={item}
              start={index * ROW}
              folder={folder}
              here={item.id === open}
              chosen={chosen.has(item.id)}
              choose={choose}
              load={load}
              pressed={pressed}
            />
          )
        );
      }),
    [order, elements, items, folder, open, chosen, choose, load, pressed],
  );
  return (
    <ul className="relative" style={{ height: `${drawn.height}px` }}>
      {rows}
    </ul>
  );
});

export function Items({
  folder,
  open,
  name,
  tools,
}: {
  folder: string | undefined;
  open: string | undefined;
  name?: string | undefined;
  tools?: ReactNode;
}) {
  const [filtering, setFiltering] = useState(false);
  const [find, setFind] = useState("");
  // A link from the first page or the palette may name a finding.
  const [filters, setFilters] = useState<Filters>(() =>
    Object.fromEntries(new URLSearchParams(window.location.search)),
  );
  const [view, setView] = useState("");
  const [chosen, setChosen] = useState<Map<string, CredentialItem>>(new Map());
  const [, setCut] = useCut();
  const box = useRef<HTMLDivElement>(null);
  const query: CredentialQuery = {
    limit: 200,
    ...Object.fromEntries(Object.entries(filters).filter(([, value]) => value)),
    ...(find && { find }),
    ...(view && { view: view as CredentialQuery["view"] }),
    ...(folder && !filters.below && { folder }),
  };
  const pages = useInfiniteQuery({
    queryKey: ["credentials", query],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      result(
        api.GET("/api/v1/credentials", { params: { query: { ...query, cursor: pageParam } } }),
      ),
    getNextPageParam: (page) => page.next,
    // Comparing a hundred thousand rows with what was there before takes longer than drawing the few
    // that are seen.
    structuralSharing: false,
  });
  const items = useMemo(() => pages.data?.pages.flatMap((page) => page.items) ?? [], [pages.data]);
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = pages;
  const look = useCallback(
    (last: number) => {
      if (last >= items.length - 20 && hasNextPage && !isFetchingNextPage) void fetchNextPage();
    },
    [items, hasNextPage, isFetchingNextPage, fetchNextPage],
  );
  const latest = useLatest(chosen);
  const rows = useLatest(items);
  // These never change, so that a row that was drawn is drawn again only when it has changed itself.
  const choose = useCallback((item: CredentialItem) => {
    setChosen((before) => {
      const next = new Map(before);
      if (!next.delete(item.id)) next.set(item.id, item);
      return next;
    });
  }, []);
  const load = useCallback(
    (item: CredentialItem) => ({
      items: latest.current.has(item.id) ? [...latest.current.values()] : [item],
    }),
    [latest],
  );
  const pressed = useCallback(
    (event: KeyboardEvent<HTMLElement>, item: CredentialItem) => {
      const move = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
      const next = move && rows.current[rows.current.indexOf(item) + move];
      if (next) {
        event.preventDefault();
        box.current?.querySelector<HTMLElement>(`[data-row="${next.id}"] a`)?.focus();
      }
      if (event.key === " ") {
        event.preventDefault();
        choose(item);
      }
      if ((event.ctrlKey || event.metaKey) && event.key === "x") setCut(load(item));
    },
    [choose, load, setCut, rows],
  );
  useEffect(() => showOrder(items.map((item) => item.id)), [items]);
  const narrowed = find || view || Object.values(filters).some(Boolean);
  return (
    <div className="flex min-h-0 grow flex-col">
      <div className="flex flex-wrap items-center gap-1 p-2">
        <label className="input input-sm min-w-24 grow basis-24">
          <Magnifier className="quiet size-4" aria-hidden="true" />
          <span className="sr-only">{folder ? "Find in this folder" : "Find in all folders"}</span>
          <input
            name="find"
            placeholder={name ? `In ${name}` : "In all folders"}
            value={find}
            onChange={(event) => setFind(event.target.value)}
          />
        </label>
        <button
          type="button"
          className={`btn btn-sm btn-square ${narrowed ? "btn-primary" : "btn-ghost"}`}
          aria-label={narrowed ? "Filtered" : "Filter"}
          title={narrowed ? "Filtered" : "Filter"}
          aria-haspopup="dialog"
          onClick={() => setFiltering(true)}
        >
          <SlidersHorizontal className="size-4" aria-hidden="true" />
        </button>
        {tools}
      </div>
      <Drawer title="Filter credentials" open={filtering} close={() => setFiltering(false)}>
        <Filter filters={filters} set={setFilters} view={view} setView={setView} />
      </Drawer>
      {narrowed && (
        <button
          type="button"
          className="link self-start px-3 pb-1"
          onClick={() => {
            setFind("");
            setFilters({});
            setView("");
          }}
        >
          Clear filters
        </button>
      )}
      <Trouble error={pages.error} />
      {pages.isSuccess && items.length === 0 && (
        <div className="px-2">
          <Empty>
            {narrowed
              ? "No credential matches."
              : "There are no credentials here that you have access to."}
          </Empty>
        </div>
      )}
      {items[0]?.near && <p className="quiet text-sm">No exact match. Similar credentials:</p>}
      <div
        ref={box}
        className="min-h-40 grow overflow-y-auto border-t border-base-300 bg-base-100 contain-content will-change-scroll"
      >
        <Rows
          items={items}
          box={box}
          look={look}
          folder={folder}
          open={open}
          chosen={chosen}
          choose={choose}
          load={load}
          pressed={pressed}
        />
      </div>
      {chosen.size > 0 && <Bulk chosen={[...chosen.values()]} clear={() => setChosen(new Map())} />}
      <div className="quiet flex justify-between gap-2 border-t border-base-300 px-3 py-2">
        <p role="status">
          {items.length}
          {pages.hasNextPage ? " and more" : ""} {items.length === 1 ? "credential" : "credentials"}
        </p>
        <Link
          href={folder ? `/credentials?below=${folder}` : "/credentials"}
          className="hover:underline"
        >
          Open as table
        </Link>
      </div>
    </div>
  );
}
