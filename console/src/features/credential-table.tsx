// All credentials as one table, or those below a folder: to sort, compare, and act on many.

import { useQuery } from "@tanstack/react-query";
import { useCallback, useMemo } from "react";
import { type CredentialItem, type CredentialQuery, all, api, result, wholeList } from "../api";
import { Empty, Page, State, When, useQueryPart } from "../parts";
import { type Asked, RemoteTable } from "../parts/remote-table";
import type { Column } from "../parts/table-state";
import { nameAndFolder } from "./columns";
import { Bulk } from "./credential-list";
import { useFolders } from "./folders";

const CHECKS = ["in-sync", "out-of-sync", "locked-out", "unreachable"];
const FINDINGS = [
  "any",
  "leaked",
  "out-of-sync",
  "weak",
  "reused",
  "expired",
  "breaks-policy",
  "expires-soon",
  "old",
];

const COLUMNS: Column<CredentialItem>[] = [
  ...nameAndFolder,
  { name: "kind", head: "Kind", value: (item) => item.kind, choices: true, one: true },
  { name: "user", head: "User name", value: (item) => item.user_name },
  { name: "device", head: "Device", value: (item) => item.device ?? "" },
  {
    name: "check",
    head: "Check",
    value: (item) => (item.device ? (item.check ?? "never checked") : ""),
    reused: true,
    cell: (item) => item.device && <State word={item.check} />,
    choices: CHECKS,
    one: true,
  },
  {
    name: "findings",
    head: "Findings",
    value: (item) => item.findings.map((finding) => finding.replaceAll("-", " ")).join(", "),
    reused: true,
    cell: (item) => (
      <span className="flex flex-wrap gap-x-2">
        {item.findings.map((finding) => (
          <State key={finding} word={finding} />
        ))}
      </span>
    ),
    choices: FINDINGS,
    one: true,
    unsorted: true,
  },
  {
    name: "tags",
    head: "Tags",
    value: (item) => item.tags.join(", "),
    choices: true,
    one: true,
    unsorted: true,
  },
  {
    name: "level",
    head: "Your level",
    value: (item) => item.level,
    unsorted: true,
    unfiltered: true,
  },
  {
    name: "gate",
    head: "Gate",
    value: (item) => (item.gated ? "yes" : "no"),
    unsorted: true,
    unfiltered: true,
    extra: true,
  },
  {
    name: "shared",
    head: "Shared",
    value: (item) => (item.own_grants ? "grants of its own" : item.shared ? "from above" : "no"),
    unsorted: true,
    unfiltered: true,
    extra: true,
  },
  {
    name: "changed",
    head: "Changed",
    value: (item) => item.changed_at,
    reused: true,
    cell: (item) => <When at={item.changed_at} />,
    unfiltered: true,
    extra: true,
  },
];

/** What the service is asked for, by the names that it has for it. */
function queryOf({ words, filters }: Asked, below: string): CredentialQuery {
  const one = (column: string, name: string) => {
    const value = filters.get(column)?.[0];
    return value ? { [name]: value } : {};
  };
  return {
    ...(below && { below }),
    ...(words && { find: words }),
    ...one("name", "name"),
    ...one("user", "user"),
    ...one("device", "device"),
    ...one("kind", "kind"),
    ...one("check", "check"),
    ...one("findings", "finding"),
    ...one("tags", "tag"),
  };
}

/** What the service calls a column by which it sorts. */
const sortOf = (sort: string) => sort.replace(/^(-?)user$/, "$1user-name");

export function Credentials() {
  const [below] = useQueryPart("below");
  const folders = useFolders();
  const kinds = useQuery({
    queryKey: ["kinds"],
    queryFn: () => wholeList(api.GET("/api/v1/kinds")),
  });
  const tags = useQuery({ queryKey: ["tags"], queryFn: () => wholeList(api.GET("/api/v1/tags")) });
  const fetch = useCallback(
    (asked: Asked, from: number, limit: number) =>
      result(
        api.GET("/api/v1/credentials/table", {
          params: {
            query: { ...queryOf(asked, below), sort: sortOf(asked.sort), from, limit },
          },
        }),
      ),
    [below],
  );
  const everything = useCallback(
    (asked: Asked, most: number) =>
      all(
        (page) =>
          api.GET("/api/v1/credentials", {
            params: { query: { ...page, ...queryOf(asked, below) } },
          }),
        most,
      ),
    [below],
  );
  const values = (column: Column<CredentialItem>) => {
    if (Array.isArray(column.choices)) return column.choices;
    return column.name === "kind"
      ? (kinds.data ?? []).map((kind) => kind.name)
      : (tags.data ?? []).map((tag) => tag.tag);
  };
  const name = useMemo(() => ["credentials", "table", below], [below]);
  const folder = folders.data?.find((each) => each.id === below);
  return (
    <Page
      title="Credentials"
      crumbs={[["Vault", below ? `/vault/${below}` : "/vault"]]}
      note={folder ? `In ${folder.path} and below it` : "All that you have access to"}
    >
      <RemoteTable
        label="Credentials"
        columns={COLUMNS}
        id={(item) => item.id}
        name={name}
        fetch={fetch}
        everything={everything}
        values={values}
        first="name"
        file="credentials.csv"
        bulk={(chosen, clear) => <Bulk chosen={chosen} clear={clear} inTable />}
        empty={<Empty>There are no credentials here that you have access to.</Empty>}
      />
    </Page>
  );
}
