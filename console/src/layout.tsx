// The frame around every page: where one is, the command palette, signing out.

import { useQuery } from "@tanstack/react-query";
import { Command } from "cmdk";
import { useEffect, useState } from "react";
import { Link, Redirect, Route, Switch, useLocation } from "wouter";
import { type Me, api, result } from "./api";
import { Access } from "./features/access-issues";
import { Audit } from "./features/audit-log";
import { Bin } from "./features/bin";
import { Home } from "./features/overview";
import { Organisation } from "./features/settings";
import { Passwords } from "./features/password-policies";
import { People } from "./features/people";
import { Personal } from "./features/personal-folder";
import { Requests } from "./features/requests";
import { Transfer } from "./features/import-export";
import { Upkeep } from "./features/upkeep";
import { Vault } from "./features/vault";
import { useLive } from "./events";
import { Told } from "./components";

interface Place {
  path: string;
  label: string;
  key: string;
}
const PLACES: Place[] = [
  { path: "/", label: "Today", key: "1" },
  { path: "/vault", label: "Vault", key: "2" },
  { path: "/requests", label: "Requests", key: "3" },
  { path: "/upkeep", label: "Upkeep", key: "4" },
  { path: "/people", label: "People", key: "5" },
  { path: "/access", label: "Access", key: "=" },
  { path: "/passwords", label: "Passwords", key: "6" },
  { path: "/audit", label: "Audit log", key: "7" },
  { path: "/personal", label: "Personal", key: "8" },
  { path: "/bin", label: "Bin", key: "9" },
  { path: "/import-export", label: "Import and export", key: "-" },
  { path: "/settings", label: "Settings", key: "0" },
];

function Palette({ open, close }: { open: boolean; close: () => void }) {
  const [, go] = useLocation();
  const [typed, setTyped] = useState("");
  const found = useQuery({
    queryKey: ["find", typed],
    queryFn: () =>
      result(api.GET("/api/v1/credentials", { params: { query: { limit: 20, find: typed } } })),
    enabled: open && typed.length > 1,
  });
  const choose = (path: string) => {
    close();
    setTyped("");
    go(path);
  };
  return (
    <Command.Dialog
      open={open}
      onOpenChange={(next) => !next && close()}
      label="Go to or find"
      shouldFilter={false}
      contentClassName="fixed left-1/2 top-[12vh] z-40 w-[min(36rem,94vw)] -translate-x-1/2 rounded-box border border-base-300 bg-base-100 p-2 shadow-xl"
      overlayClassName="fixed inset-0 z-30 bg-black/40"
    >
      <Command.Input
        value={typed}
        onValueChange={setTyped}
        placeholder="A page, or part of a credential's name"
        className="input w-full"
      />
      <Command.List className="mt-2 max-h-80 overflow-y-auto">
        <Command.Empty className="quiet p-2">
          {typed.length > 1 ? "Nothing matches." : "Type two letters to find a credential."}
        </Command.Empty>
        {PLACES.filter((place) => place.label.toLowerCase().includes(typed.toLowerCase())).map(
          (place) => (
            <Command.Item
              key={place.path}
              value={place.path}
              onSelect={() => choose(place.path)}
              className="cursor-pointer rounded px-2 py-1 data-[selected=true]:bg-base-300"
            >
              Go to {place.label}
            </Command.Item>
          ),
        )}
        {found.data?.items.map((item) => (
          <Command.Item
            key={item.id}
            value={item.id}
            onSelect={() => choose(`/vault/${item.folder}/${item.id}`)}
            className="cursor-pointer rounded px-2 py-1 data-[selected=true]:bg-base-300"
          >
            {item.name} <span className="quiet">in {item.place}</span>
          </Command.Item>
        ))}
      </Command.List>
    </Command.Dialog>
  );
}

export function Shell({ me }: { me: Me }) {
  const [location, go] = useLocation();
  const [palette, setPalette] = useState(false);
  useLive();
  const places = PLACES.filter((place) => place.path !== "/audit" || me.duties.includes("audit"));
  useEffect(() => {
    const pressed = (event: KeyboardEvent) => {
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k") {
        event.preventDefault();
        setPalette(true);
      }
      const place = event.altKey ? PLACES.find((each) => each.key === event.key) : undefined;
      if (place) {
        event.preventDefault();
        go(place.path);
      }
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, [go]);
  const leave = async () => {
    await result(api.POST("/api/v1/sign-out")).catch(() => undefined);
    go("/");
    window.dispatchEvent(new Event("signed-out"));
  };
  return (
    <div className="flex min-h-dvh flex-col">
      <a href="#content" className="skip btn btn-sm">
        Skip to content
      </a>
      <header className="border-b border-base-300 bg-base-100">
        <div className="flex flex-wrap items-center gap-x-2 gap-y-1 px-3 py-1.5">
          <Link href="/" className="flex items-center gap-2 font-semibold">
            <img src="/mark.svg" alt="" className="h-6 w-6" />
            {me.organisation}
          </Link>
          <nav aria-label="Pages" className="flex flex-wrap">
            {places.map((place) => {
              const here = place.path === "/" ? location === "/" : location.startsWith(place.path);
              return (
                <Link
                  key={place.path}
                  href={place.path}
                  aria-current={here ? "page" : undefined}
                  title={`Alt+${place.key}`}
                  className={`rounded px-1.5 py-1 ${here ? "bg-primary text-primary-content" : "hover:bg-base-200"}`}
                >
                  {place.label}
                </Link>
              );
            })}
          </nav>
          <div className="ml-auto flex items-center gap-2">
            <button type="button" className="btn btn-sm" onClick={() => setPalette(true)}>
              Find <kbd className="kbd kbd-sm">Ctrl K</kbd>
            </button>
            <span title={me.sign_in_name}>{me.display_name}</span>
            <button type="button" className="btn btn-ghost btn-sm" onClick={() => void leave()}>
              Sign out
            </button>
          </div>
        </div>
      </header>
      <Palette open={palette} close={() => setPalette(false)} />
      <Told />
      <main id="content" className="flex min-h-0 grow flex-col p-3">
        <Switch>
          <Route path="/">
            <Home me={me} />
          </Route>
          <Route path="/vault/:folder?/:credential?">
            {(where) => <Vault me={me} folder={where.folder} credential={where.credential} />}
          </Route>
          <Route path="/requests">
            <Requests />
          </Route>
          <Route path="/upkeep">
            <Upkeep />
          </Route>
          <Route path="/people">
            <People me={me} />
          </Route>
          <Route path="/access">
            <Access me={me} />
          </Route>
          <Route path="/passwords">
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
          <Route path="/audit">
            <Audit />
          </Route>
          <Route>
            <Redirect to="/" />
          </Route>
        </Switch>
      </main>
    </div>
  );
}
