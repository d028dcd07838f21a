// Names that lead to the page of what they name.

import { Link } from "wouter";

const LOOK = "font-medium hover:underline";

/** A credential by its path; the page finds its folder by itself. */
export function CredentialLink({ id, path }: { id: string; path: string }) {
  return (
    <Link href={`/vault/-/${id}`} className={`link link-hover ${LOOK}`}>
      {path}
    </Link>
  );
}

export function PersonLink({ id, name }: { id: string; name: string }) {
  return (
    <Link href={`/people/${id}`} className={LOOK}>
      {name}
    </Link>
  );
}

export function FolderLink({ id, path }: { id: string; path: string }) {
  return (
    <Link href={`/vault/${id}`} className={LOOK}>
      {path}
    </Link>
  );
}

export function DeviceLink({ id, name }: { id: string; name: string }) {
  return (
    <Link href={`/devices/${id}`} className={LOOK}>
      {name}
    </Link>
  );
}
