// Columns that many lists have.

import { Star } from "lucide-react";
import { Link } from "wouter";
import type { CredentialItem } from "../api";
import { CredentialLink, KindIcon, State, When } from "../parts";
import type { Column } from "../parts/data-table";

/** The credential that a row is about. */
export const credentialColumn = <T,>(
  id: (row: T) => string,
  path: (row: T) => string,
): Column<T> => ({
  name: "credential",
  head: "Credential",
  value: path,
  reused: true,
  cell: (row) => <CredentialLink id={id(row)} path={path(row)} />,
});

/** What a credential is called, and where it is: each is sorted by what it shows. */
export const nameAndFolder: Column<CredentialItem>[] = [
  {
    name: "name",
    head: "Name",
    value: (item) => item.name,
    reused: true,
    cell: (item) => (
      <Link
        href={`/vault/${item.folder}/${item.id}`}
        className="flex min-w-0 items-center gap-2 font-semibold hover:underline"
      >
        <KindIcon kind={item.kind} />
        <span className="truncate" title={item.name}>
          {item.name}
        </span>
        {item.favourite && <Star className="size-3.5" aria-label="a favourite" />}
      </Link>
    ),
  },
  {
    name: "folder",
    head: "Folder",
    value: (item) => item.place,
    reused: true,
    cell: (item) => (
      <Link href={`/vault/${item.folder}`} className="hover:underline">
        {item.place}
      </Link>
    ),
    unfiltered: true,
  },
];

/** A moment, if there is one. */
export const whenColumn = <T,>(
  name: string,
  head: string,
  at: (row: T) => string | null | undefined,
): Column<T> => ({
  name,
  head,
  value: (row) => at(row) ?? "",
  reused: true,
  cell: (row) => <When at={at(row)} />,
});

/** A state, by which the list is filtered. */
export const stateColumn = <T,>(
  name: string,
  head: string,
  of: (row: T) => string | null,
): Column<T> => ({
  name,
  head,
  value: (row) => of(row) ?? "never checked",
  reused: true,
  cell: (row) => <State word={of(row)} />,
  word: (value) => value.replaceAll("-", " "),
  choices: true,
});
