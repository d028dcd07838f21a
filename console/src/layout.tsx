// The frame around every page: the sidebar, the top bar, search, and who is signed in.

import { useQuery } from "@tanstack/react-query";
import {
  Bell,
  ChevronDown,
  CircleHelp,
  Clock3,
  Ellipsis,
  FolderLock,
  Hand,
  House,
  LogOut,
  Monitor,
  Moon,
  PanelLeftClose,
  PanelLeftOpen,
  Trash2,
  Search as Magnifier,
  Sun,
  UserCog,
} from "lucide-react";
import { Suspense, lazy, useEffect, useState } from "react";
import { Link, Redirect, Route, Switch, useLocation } from "wouter";
import { type Me, type Overview, api, overviewQuery, result } from "./api";
import { useLive } from "./events";
import { GROUPS, type Place, isHere, placesFor } from "./pages";
import { Skeleton } from "./parts/empty";
import { Menu } from "./parts/menu";
import { Drawer, Leaving } from "./parts/overlay";
import { setClock, useClock } from "./parts/time";
import { Told } from "./parts/toast";
import { setTheme, theme } from "./theme";

// Each page comes when it is opened for the first time.
const Help = lazy(() => import("./help"));
const Home = lazy(() => import("./features/overview").then((page) => ({ default: page.Home })));
const Vault = lazy(() => import("./features/vault").then((page) => ({ default: page.Vault })));
const Credentials = lazy(() =>
  import("./features/credential-table").then((page) => ({ default: page.Credentials })),
);
const Requests = lazy(() =>
  import("./features/requests").then((page) => ({ default: page.Requests })),
);
const Checkouts = lazy(() =>
  import("./features/checkouts").then((page) => ({ default: page.Checkouts })),
);
const Devices = lazy(() =>
  import("./features/devices").then((page) => ({ default: page.DevicesPage })),
);
const Accounts = lazy(() =>
  import("./features/upkeep").then((page) => ({ default: page.Accounts })),
);
const Jobs = lazy(() => import("./features/upkeep").then((page) => ({ default: page.Jobs })));
const Plans = lazy(() => import("./features/upkeep").then((page) => ({ default: page.Plans })));
const Findings = lazy(() =>
  import("./features/findings").then((page) => ({ default: page.Findings })),
);
const Audit = lazy(() => import("./features/audit-log").then((page) => ({ default: page.Audit })));
const People = lazy(() => import("./features/people").then((page) => ({ default: page.People })));
const PersonPage = lazy(() =>
  import("./features/person").then((page) => ({ default: page.PersonPage })),
);
const Access = lazy(() =>
  import("./features/access-issues").then((page) => ({ default: page.Access })),
);
const Passwords = lazy(() =>
  import("./features/password-policies").then((page) => ({ default: page.Passwords })),
);
const Transfer = lazy(() =>
  import("./features/import-export").then((page) => ({ default: page.Transfer })),
);
const Organisation = lazy(() =>
  import("./features/settings").then((page) => ({ default: page.Organisation })),
);
const Personal = lazy(() =>
  import("./features/personal-folder").then((page) => ({ default: page.Personal })),
);
const Bin = lazy(() => import("./features/bin").then((page) => ({ default: page.Bin })));
const Profile = lazy(() =>
  import("./features/profile").then((page) => ({ default: page.Profile })),
);
// The parts with all their states, for whoever works on them.
const Dialogues = lazy(() =>
  import("./features/dialogues").then((page) => ({ default: page.Dialogues })),
);
const OneDialogue = lazy(() =>
  import("./features/dialogues").then((page) => ({ default: page.OneDialogue })),
);
const Search = lazy(() => import("./search").then((part) => ({ default: part.Search })));

function initials(name: string): string {
  const words = name.split(/\s+/).filter((word) => /^\p{L}/u.test(word));
  return [words[0], words.at(-1)]
    .filter((word, at) => word && (at === 0 || words.length > 1))
    .map((word) => word?.[0]?.toUpperCase())
    .join("");
}

function Avatar({ name }: { name: string }) {
  return (
    <span
      aria-hidden="true"
      className="grid size-6 shrink-0 place-items-center rounded-full bg-secondary text-xs font-semibold"
    >
      {initials(name)}
    </span>
  );
}

function Entry({
  place,
  overview,
  here,
  narrow,
}: {
  place: Place;
  overview: Overview | undefined;
  here: boolean;
  narrow: boolean;
}) {
  const waits = overview && place.waits?.(overview);
  const count = overview && place.count?.(overview);
  return (
    <Link
      href={place.path}
      aria-current={here ? "page" : undefined}
      title={[narrow && place.label, place.key && `Alt ${place.key}`].filter(Boolean).join(", ")}
      className={`relative flex h-[29px] items-center gap-2 rounded-field px-2.5 ${here ? "bg-secondary font-semibold text-primary" : "hover:bg-base-300/60"}`}
    >
      <place.icon className="size-4 shrink-0" aria-hidden="true" />
      <span className={narrow ? "sr-only" : "grow truncate"}>{place.label}</span>
      {Boolean(waits) && (
        <span
          className={
            narrow
              ? "absolute top-0 right-0 size-2 overflow-hidden rounded-full bg-accent text-[0px]"
              : "rounded-selector bg-accent px-1.5 text-xs font-semibold text-accent-content tabular-nums"
          }
        >
          {waits}
          <span className="sr-only"> waiting</span>
        </span>
      )}
      {Boolean(count) && !narrow && <span className="text-xs tabular-nums">{count}</span>}
    </Link>
  );
}

function Sidebar({
  me,
  overview,
  narrow,
  setNarrow,
}: {
  me: Me;
  overview: Overview | undefined;
  narrow: boolean;
  setNarrow: (narrow: boolean) => void;
}) {
  const [location] = useLocation();
  const places = placesFor(me);
  return (
    <nav
      aria-label="Pages"
      className={`flex shrink-0 flex-col gap-3 overflow-y-auto border-r border-base-300 px-2 py-2 max-md:hidden ${narrow ? "w-12 px-1.5" : "w-52"}`}
    >
      {GROUPS.map((group) => (
        <div key={group.label} className={narrow ? "border-b border-base-300 pb-2" : ""}>
          <p className={narrow ? "sr-only" : "quiet px-2.5 py-1 text-xs font-semibold"}>
            {group.label}
          </p>
          <div className="flex flex-col">
            {group.places
              .filter((place) => places.includes(place))
              .map((place) => (
                <Entry
                  key={place.path}
                  place={place}
                  overview={overview}
                  here={isHere(place, location)}
                  narrow={narrow}
                />
              ))}
          </div>
        </div>
      ))}
      <button
        type="button"
        className="quiet mt-auto flex h-[29px] items-center gap-2 rounded-field px-2.5 hover:bg-base-300/60"
        aria-expanded={!narrow}
        title={narrow ? "Expand the sidebar" : undefined}
        onClick={() => setNarrow(!narrow)}
      >
        {narrow ? (
          <PanelLeftOpen className="size-4" aria-hidden="true" />
        ) : (
          <PanelLeftClose className="size-4" aria-hidden="true" />
        )}
        <span className={narrow ? "sr-only" : ""}>{narrow ? "Expand" : "Collapse"}</span>
      </button>
    </nav>
  );
}

/** At the bottom of a phone: what an approver and an engineer need. */
function BottomBar({
  waits,
  search,
  more,
}: {
  waits: number;
  search: () => void;
  more: () => void;
}) {
  const [location] = useLocation();
  const look = (here: boolean) =>
    `relative flex flex-col items-center justify-center gap-0.5 text-xs ${here ? "font-semibold text-primary" : ""}`;
  return (
    <nav
      aria-label="Main pages"
      className="grid h-14 shrink-0 grid-cols-4 border-t border-base-300 bg-base-100 md:hidden"
    >
      <Link
        href="/"
        className={look(location === "/")}
        aria-current={location === "/" ? "page" : undefined}
      >
        <House className="size-5" aria-hidden="true" />
        Home
      </Link>
      <Link
        href="/requests"
        className={look(location.startsWith("/requests"))}
        aria-current={location.startsWith("/requests") ? "page" : undefined}
      >
        <Hand className="size-5" aria-hidden="true" />
        Requests
        {waits > 0 && (
          <span className="absolute top-1 right-[calc(50%-1.4rem)] rounded-selector bg-accent px-1 text-xs font-semibold text-accent-content">
            {waits}
          </span>
        )}
      </Link>
      <button type="button" className={look(false)} onClick={search}>
        <Magnifier className="size-5" aria-hidden="true" />
        Search
      </button>
      <button type="button" className={look(false)} onClick={more} aria-haspopup="dialog">
        <Ellipsis className="size-5" aria-hidden="true" />
        More
      </button>
    </nav>
  );
}

function typing(event: KeyboardEvent): boolean {
  return (
    event.target instanceof HTMLElement &&
    event.target.closest("input, textarea, select, [contenteditable]") !== null
  );
}

function useShortcuts(me: Me, search: () => void, help: () => void): void {
  const [, go] = useLocation();
  useEffect(() => {
    const places = placesFor(me);
    const pressed = (event: KeyboardEvent) => {
      const place = event.altKey ? places.find((each) => each.key === event.key) : undefined;
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k") search();
      else if (place) go(place.path);
      else if (event.key === "?" && !typing(event)) help();
      else return;
      event.preventDefault();
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, [me, go, search, help]);
}

function PersonMenu({ me }: { me: Me }) {
  const [, go] = useLocation();
  const [shown, setShown] = useState(theme());
  const clock = useClock();
  const choose = (next: typeof shown) => () => {
    setTheme(next);
    setShown(next);
  };
  const leave = async () => {
    await result(api.POST("/api/v1/sign-out")).catch(() => undefined);
    go("/");
    window.dispatchEvent(new Event("signed-out"));
  };
  return (
    <Menu
      look="btn-ghost btn-sm gap-2 font-semibold"
      trigger={
        <>
          <Avatar name={me.display_name} />
          <span className="max-sm:sr-only">{me.display_name}</span>
          <ChevronDown className="size-4 max-sm:hidden" aria-hidden="true" />
        </>
      }
      head={<p className="quiet px-3 pt-1 pb-2 text-xs">Signed in as {me.sign_in_name}</p>}
      groups={[
        [{ label: "Profile, sessions, dates", icon: UserCog, run: () => go("/profile") }],
        [
          {
            label: "As the system",
            icon: Monitor,
            run: choose("system"),
            checked: shown === "system",
          },
          { label: "Light", icon: Sun, run: choose("day"), checked: shown === "day" },
          { label: "Dark", icon: Moon, run: choose("night"), checked: shown === "night" },
        ],
        [
          {
            label: "24-hour times",
            icon: Clock3,
            run: () => setClock(clock === "24" ? "system" : "24"),
            checked: clock === "24",
          },
        ],
        [{ label: "Sign out", icon: LogOut, run: () => void leave() }],
      ]}
    />
  );
}

function Pages({ me }: { me: Me }) {
  return (
    <Suspense
      fallback={
        <div className="p-5">
          <Skeleton rows={6} />
        </div>
      }
    >
      <Switch>
        <Route path="/">
          <Home me={me} />
        </Route>
        <Route path="/vault/:folder?/:credential?">
          {(where) => <Vault me={me} folder={where.folder} credential={where.credential} />}
        </Route>
        <Route path="/credentials">
          <Credentials />
        </Route>
        <Route path="/requests">
          <Requests />
        </Route>
        <Route path="/checkouts">
          <Checkouts />
        </Route>
        <Route path="/devices/:device?">
          {(where) => <Devices me={me} device={where.device} />}
        </Route>
        <Route path="/accounts">
          <Accounts />
        </Route>
        <Route path="/jobs">
          <Jobs />
        </Route>
        <Route path="/plans">
          <Plans />
        </Route>
        <Route path="/dialogues">
          <Dialogues me={me} />
        </Route>
        <Route path="/dialogues/:dialogue">
          {(where) => <OneDialogue key={where.dialogue} me={me} id={where.dialogue} />}
        </Route>
        <Route path="/findings">
          <Findings />
        </Route>
        <Route path="/people">
          <People me={me} />
        </Route>
        <Route path="/people/:person">
          {(where) => <PersonPage me={me} person={where.person} />}
        </Route>
        <Route path="/access">
          <Access me={me} />
        </Route>
        <Route path="/policies">
          <Passwords me={me} />
        </Route>
        <Route path="/personal">
          <Personal />
        </Route>
        <Route path="/bin">
          <Bin />
        </Route>
        <Route path="/import-export">
          <Transfer me={me} />
        </Route>
        <Route path="/settings">
          <Organisation me={me} />
        </Route>
        <Route path="/profile">
          <Profile me={me} />
        </Route>
        <Route path="/audit">
          <Audit />
        </Route>
        <Route path="/upkeep">
          <Redirect to="/accounts" />
        </Route>
        <Route path="/passwords">
          <Redirect to="/policies" />
        </Route>
        <Route>
          <Redirect to="/" />
        </Route>
      </Switch>
    </Suspense>
  );
}

export function Shell({ me }: { me: Me }) {
  const [location] = useLocation();
  const [searching, setSearching] = useState(false);
  const [help, setHelp] = useState(false);
  const [more, setMore] = useState(false);
  const [kept, setKept] = useState(localStorage.getItem("sidebar"));
  // The vault needs the room, unless somebody wants the words there too.
  const narrow = kept ? kept === "narrow" : location.startsWith("/vault") && innerWidth < 1500;
  const overview = useQuery(overviewQuery);
  useLive();
  useShortcuts(
    me,
    () => setSearching(true),
    () => setHelp(true),
  );
  const remember = (next: boolean) => {
    const chosen = next ? "narrow" : "wide";
    localStorage.setItem("sidebar", chosen);
    setKept(chosen);
  };
  const data = overview.data;
  const waits = data ? data.to_decide.length + data.pending.length : 0;
  const here = placesFor(me).find((place) => isHere(place, location));
  useEffect(() => {
    document.title = here ? `${here.label} · ${me.organisation}` : me.organisation;
  }, [here, me.organisation]);
  return (
    <div className="flex h-dvh flex-col">
      <a href="#content" className="skip btn btn-sm">
        Skip to content
      </a>
      <header className="flex h-12 shrink-0 items-center gap-2 border-b border-base-300 bg-base-100 px-3">
        <Link href="/" className="flex min-w-0 items-center gap-2 font-semibold md:w-52">
          <img src="/mark.svg" alt="" className="size-6" />
          <span className="truncate">{me.organisation}</span>
        </Link>
        <button
          type="button"
          className="quiet mx-auto flex h-8 w-full max-w-md items-center gap-2 rounded-field border border-base-300 bg-base-100 px-2.5 hover:border-primary max-md:hidden"
          onClick={() => setSearching(true)}
        >
          <Magnifier className="size-4" aria-hidden="true" />
          <span className="grow text-left">Search credentials, devices, people, pages</span>
          <kbd className="kbd kbd-xs">Ctrl K</kbd>
        </button>
        <div className="ml-auto flex items-center gap-1 md:ml-0">
          <Link
            href="/requests"
            className="btn btn-ghost btn-sm btn-square relative"
            aria-label={waits > 0 ? `${waits} waiting for you` : "Nothing is waiting for you"}
          >
            <Bell className="size-4" aria-hidden="true" />
            {waits > 0 && (
              <span
                aria-hidden="true"
                className="absolute -top-0.5 -right-0.5 rounded-selector bg-accent px-1 text-xs font-semibold text-accent-content"
              >
                {waits}
              </span>
            )}
          </Link>
          <button
            type="button"
            className="btn btn-ghost btn-sm btn-square max-md:hidden"
            aria-label="Help"
            aria-haspopup="dialog"
            onClick={() => setHelp(true)}
          >
            <CircleHelp className="size-4" aria-hidden="true" />
          </button>
          <PersonMenu me={me} />
        </div>
      </header>
      <div className="flex min-h-0 grow">
        <Sidebar me={me} overview={data} narrow={narrow} setNarrow={remember} />
        <main
          id="content"
          tabIndex={-1}
          className="relative min-w-0 grow overflow-y-auto outline-none"
        >
          <Pages me={me} />
        </main>
      </div>
      <BottomBar waits={waits} search={() => setSearching(true)} more={() => setMore(true)} />
      <Drawer title="Pages" open={more} close={() => setMore(false)}>
        <nav aria-label="All pages" className="flex flex-col">
          {placesFor(me).map((place) => (
            <Link
              key={place.path}
              href={place.path}
              onClick={() => setMore(false)}
              className="flex h-11 items-center gap-3 border-b border-base-300"
            >
              <place.icon className="size-5" aria-hidden="true" />
              {place.label}
            </Link>
          ))}
          <Link
            href="/personal"
            onClick={() => setMore(false)}
            className="flex h-11 items-center gap-3 border-b border-base-300"
          >
            <FolderLock className="size-5" aria-hidden="true" />
            Personal folder
          </Link>
          <Link
            href="/bin"
            onClick={() => setMore(false)}
            className="flex h-11 items-center gap-3 border-b border-base-300"
          >
            <Trash2 className="size-5" aria-hidden="true" />
            Bin
          </Link>
          <button
            type="button"
            className="flex h-11 items-center gap-3 text-left"
            onClick={() => {
              setMore(false);
              setHelp(true);
            }}
          >
            <CircleHelp className="size-5" aria-hidden="true" />
            Help for this page
          </button>
        </nav>
      </Drawer>
      <Drawer title="Help" open={help} close={() => setHelp(false)}>
        <Suspense fallback={<Skeleton />}>
          <Help />
        </Suspense>
      </Drawer>
      {searching && (
        <Suspense>
          <Search me={me} open close={() => setSearching(false)} />
        </Suspense>
      )}
      <Leaving />
      <Told />
    </div>
  );
}
