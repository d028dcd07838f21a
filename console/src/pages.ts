// The pages: where they are, who sees them, and what stands for them. The sidebar, the search and
// the shortcuts all read this.

import {
  ArrowDownUp,
  CalendarClock,
  Hand,
  House,
  KeyRound,
  type LucideIcon,
  RefreshCw,
  ScrollText,
  Server,
  Settings,
  ShieldCheck,
  SquareTerminal,
  Timer,
  TriangleAlert,
  UserCog,
  Users,
  Vault,
} from "lucide-react";
import type { Me, Overview } from "./api";

export interface Place {
  path: string;
  label: string;
  icon: LucideIcon;
  /** With Alt. */
  key?: string;
  duty?: Me["duties"][number];
  /** How many things wait there. */
  waits?: (overview: Overview) => number;
  /** How many there are, without haste. */
  count?: (overview: Overview) => number;
}

export const GROUPS: { label: string; places: Place[] }[] = [
  {
    label: "Work",
    places: [
      { path: "/", label: "Home", icon: House, key: "1" },
      { path: "/vault", label: "Vault", icon: Vault, key: "2" },
      {
        path: "/requests",
        label: "Requests",
        icon: Hand,
        key: "3",
        waits: (overview) => overview.to_decide.length + overview.pending.length,
      },
      {
        path: "/checkouts",
        label: "Checkouts",
        icon: Timer,
        key: "4",
        count: (overview) => overview.held.length,
      },
    ],
  },
  {
    label: "Upkeep",
    places: [
      { path: "/devices", label: "Devices", icon: Server, key: "5" },
      { path: "/accounts", label: "Accounts", icon: UserCog, key: "6" },
      {
        path: "/jobs",
        label: "Jobs",
        icon: RefreshCw,
        key: "7",
        count: (overview) => overview.troubled_jobs.length,
      },
      { path: "/plans", label: "Plans", icon: CalendarClock },
      { path: "/dialogues", label: "Dialogues", icon: SquareTerminal },
    ],
  },
  {
    label: "Oversight",
    places: [
      { path: "/findings", label: "Findings", icon: TriangleAlert, key: "8" },
      { path: "/audit", label: "Audit log", icon: ScrollText, key: "9", duty: "audit" },
    ],
  },
  {
    label: "Administration",
    places: [
      { path: "/people", label: "People and groups", icon: Users, key: "0" },
      { path: "/access", label: "Access", icon: KeyRound },
      { path: "/policies", label: "Policies", icon: ShieldCheck },
      { path: "/import-export", label: "Import and export", icon: ArrowDownUp },
      { path: "/settings", label: "Settings", icon: Settings },
    ],
  },
];

/** The pages that somebody can use. */
export const placesFor = (me: Me): Place[] =>
  GROUPS.flatMap((group) => group.places).filter(
    (place) => !place.duty || me.duties.includes(place.duty),
  );

/** Whether a page is the one that is shown. */
export const isHere = (place: Place, location: string) =>
  place.path === "/"
    ? location === "/"
    : location.startsWith(place.path) ||
      (place.path === "/vault" && ["/credentials", "/personal", "/bin"].includes(location));
