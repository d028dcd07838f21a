// A state as a word, a shape and a colour, never a colour alone.

import {
  BadgeAlert,
  CalendarClock,
  CircleCheck,
  CircleDashed,
  CircleHelp,
  CirclePause,
  CircleX,
  Clock3,
  Copy,
  Droplets,
  Hourglass,
  LoaderCircle,
  LogOut,
  type LucideIcon,
  Mail,
  ShieldX,
  TriangleAlert,
  Unplug,
} from "lucide-react";

const GOOD = "text-success";
const BAD = "text-error";
const CARE = "text-warning";
const NEWS = "text-info";

const LOOKS: Record<string, [LucideIcon, string]> = {
  "in-sync": [CircleCheck, GOOD],
  done: [CircleCheck, GOOD],
  approved: [CircleCheck, GOOD],
  granted: [CircleCheck, GOOD],
  active: [CircleCheck, GOOD],
  confirmed: [CircleCheck, GOOD],
  "in force": [CircleCheck, GOOD],
  current: [CircleCheck, GOOD],
  on: [CircleCheck, GOOD],
  "out-of-sync": [CircleX, BAD],
  failed: [CircleX, BAD],
  refused: [CircleX, BAD],
  impossible: [CircleX, BAD],
  "in-doubt": [CircleHelp, CARE],
  unreachable: [Unplug, CARE],
  "locked-out": [ShieldX, CARE],
  waiting: [Clock3, NEWS],
  due: [CalendarClock, NEWS],
  owed: [Hourglass, CARE],
  suspended: [CirclePause, CARE],
  paused: [CirclePause, CARE],
  off: [CirclePause, CARE],
  privileged: [BadgeAlert, CARE],
  queued: [Clock3, NEWS],
  running: [LoaderCircle, NEWS],
  candidate: [LoaderCircle, NEWS],
  invited: [Mail, NEWS],
  left: [LogOut, "quiet"],
  leaked: [Droplets, BAD],
  weak: [TriangleAlert, BAD],
  reused: [Copy, CARE],
  expired: [CalendarClock, BAD],
  "breaks-policy": [BadgeAlert, CARE],
  "expires-soon": [CalendarClock, CARE],
  old: [Hourglass, CARE],
  changed: [CircleCheck, GOOD],
  "still the same": [Hourglass, CARE],
};

/** A state. Without a word, nothing is known yet. */
export function State({
  word,
  none = "never checked",
}: {
  word: string | null | undefined;
  none?: string;
}) {
  const [Icon, colour] = (word && LOOKS[word]) || [CircleDashed, "quiet"];
  return (
    <span
      className={`inline-flex items-center gap-1 align-middle whitespace-nowrap font-medium ${colour}`}
    >
      <Icon className="size-4 shrink-0" aria-hidden="true" />
      {word ? word.replaceAll("-", " ") : none}
    </span>
  );
}
