// Links to things that other pages show.

import { Link } from "wouter";

/** A credential by its path; the page finds its folder by itself. */
export function CredentialLink({ id, path }: { id: string; path: string }) {
  return (
    <Link href={`/vault/-/${id}`} className="link link-hover font-medium">
      {path}
    </Link>
  );
}
