// All credentials as one table, or those below a folder: to sort, compare, and act on many.

import { useQuery } from "@tanstack/react-query";
import { Star } from "lucide-react";
import { Link } from "wouter";
import { type CredentialItem, all, api, wholeList } from "../api";
import { Empty, KindIcon, Page, State, When, useQueryPart } from "../parts";
import { type Column, DataTable } from "../parts/data-table";
import { Bulk } from "./credential-list";

/** More than these are found by narrowing the folder. */
const MOST = 20_000;

const COLUMNS: Column<CredentialItem>[] = [
  {
    name: "name",
    head: "Name",
    value: (item) => item.name,
    cell: (item) => (
      <Link
        href={`/vault/${item.folder}/${item.id}`}
        className="flex items-center gap-2 font-semibold hover:underline"
      >
        <KindIcon kind={item.kind} />
        {item.name}
        {item.favourite && <Star className="size-3.5" aria-label="a favourite" />}
      </Link>
    ),
  },
  {
    name: "folder",
    head: "Folder",
    value: (item) => item.place,
    cell: (item) => (
      <Link href={`/vault/${item.folder}`} className="hover:underline">
        {item.place}
      </Link>
    ),
  },
  { name: "kind", head: "Kind", value: (item) => item.kind, choices: true },
  { name: "user", head: "User name", value: (item) => item.user_name },
  { name: "device", head: "Device", value: (item) => item.device ?? "", choices: true },
  {
    name: "check",
    head: "Check",
    value: (item) => (item.device ? (item.check ?? "never checked") : ""),
    cell: (item) => item.device && <State word={item.check} />,
    choices: true,
  },
  {
    name: "findings",
    head: "Findings",
    value: (item) => item.findings.map((finding) => finding.replaceAll("-", " ")).join(", "),
    cell: (item) => (
      <span className="flex flex-wrap gap-x-2">
        {item.findings.map((finding) => (
          <State key={finding} word={finding} />
        ))}
      </span>
    ),
  },
  { name: "tags", head: "Tags", value: (item) => item.tags.join(", ") },
  { name: "level", head: "Your level", value: (item) => item.level, choices: true },
  {
    name: "gate",
    head: "Gate",
    value: (item) => (item.gated ? "yes" : "no"),
    choices: true,
    extra: true,
  },
  {
    name: "shared",
    head: "Shared",
    value: (item) => (item.own_grants ? "grants of its own" : item.shared ? "from above" : "no"),
    choices: true,
    extra: true,
  },
  {
    name: "changed",
    head: "Changed",
    value: (item) => item.changed_at,
    cell: (item) => <When at={item.changed_at} />,
    extra: true,
  },
];

export function Credentials() {
  const [below] = useQueryPart("below");
  const folders = useQuery({
    queryKey: ["folders"],
    queryFn: () => wholeList(api.GET("/api/v1/folders")),
  });
  const found = useQuery({
    queryKey: ["credentials", "table", below],
    queryFn: () =>
      all(
        (page) =>
          api.GET("/api/v1/credentials", {
            params: { query: { ...page, ...(below && { below }) } },
          }),
        MOST,
      ),
  });
  const folder = folders.data?.find((each) => each.id === below);
  return (
    <Page
      title="Credentials"
      crumbs={[["Vault", below ? `/vault/${below}` : "/vault"]]}
      note={
        (found.data?.length ?? 0) >= MOST
          ? `The first ${MOST}. Open the table of a folder to see the others.`
          : folder
            ? `In ${folder.path} and below it`
            : "All that you have access to"
      }
    >
      <DataTable
        label="Credentials"
        rows={found.data}
        columns={COLUMNS}
        id={(item) => item.id}
        error={found.error}
        retry={() => void found.refetch()}
        file="credentials.csv"
        bulk={(chosen, clear) => <Bulk chosen={chosen} clear={clear} />}
        empty={<Empty>There are no credentials here that you have access to.</Empty>}
      />
    </Page>
  );
}
