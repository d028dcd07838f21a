#!/usr/bin/env python3
"""Fails when a crate of the workspace names a dependency that none of its sources use."""

import pathlib
import re
import sys
import tomllib

TOP = pathlib.Path(__file__).resolve().parent.parent
# Used by what a macro of another crate writes.
HIDDEN = {("jexlin-store", "diesel_migrations")}


def used(name: str, text: str) -> bool:
    crate = name.replace("-", "_")
    return re.search(rf"(?<![\w:]){crate}(::|;| as )|extern crate {crate}", text) is not None


def main() -> int:
    unused = []
    workspace = tomllib.loads((TOP / "Cargo.toml").read_text())
    for folder in [*sorted((TOP / "crates").iterdir()), TOP / "demo", TOP / "bench"]:
        manifest = tomllib.loads((folder / "Cargo.toml").read_text())
        crate = manifest["package"]["name"]
        text = "\n".join(path.read_text() for path in folder.rglob("*.rs"))
        for part in ("dependencies", "dev-dependencies", "build-dependencies"):
            for name in manifest.get(part, {}):
                if (crate, name) not in HIDDEN and not used(name, text):
                    unused.append(f"{crate} does not use {name} ({part})")
    named = {
        name
        for path in [*TOP.glob("crates/*/Cargo.toml"), *TOP.glob("[db]e*/Cargo.toml")]
        for part in ("dependencies", "dev-dependencies", "build-dependencies")
        for name in tomllib.loads(path.read_text()).get(part, {})
    }
    unused += [
        f"no crate names {name} of the workspace"
        for name in workspace["workspace"]["dependencies"]
        if name not in named
    ]
    print("\n".join(unused) or "every dependency is used")
    return 1 if unused else 0


if __name__ == "__main__":
    sys.exit(main())
