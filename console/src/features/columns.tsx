// Columns that many lists have.

import { CredentialLink, State, When } from "../parts";
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
