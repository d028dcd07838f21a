// What stands for a kind of credential wherever one is named.

import {
  BadgeCheck,
  Braces,
  CreditCard,
  Database,
  FileBadge,
  Globe,
  KeyRound,
  Lock,
  type LucideIcon,
  NotebookText,
  Radio,
  Server,
  Wifi,
} from "lucide-react";

const KINDS: Record<string, LucideIcon> = {
  login: Globe,
  "device-admin": Server,
  "ssh-key": KeyRound,
  "api-token": Braces,
  "database-account": Database,
  "shared-key": Radio,
  licence: BadgeCheck,
  certificate: FileBadge,
  "confidential-note": NotebookText,
  card: CreditCard,
  wireless: Wifi,
};

export function KindIcon({ kind, className = "size-4" }: { kind: string; className?: string }) {
  const Icon = KINDS[kind] ?? Lock;
  return <Icon className={`shrink-0 ${className}`} aria-hidden="true" />;
}
