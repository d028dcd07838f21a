#!/usr/bin/env python3
"""Fails when a dependency has a licence that is not on the list, or none. Runs offline."""
import json, re, subprocess, sys

ALLOWED = {"MIT", "Apache-2.0", "BSD-2-Clause", "BSD-3-Clause", "ISC", "Unicode-3.0", "Zlib", "MPL-2.0", "CC0-1.0", "0BSD", "Unlicense", "BSL-1.0", "MIT-0", "OFL-1.1", "CDLA-Permissive-2.0", "Apache-2.0 WITH LLVM-exception", "BlueOak-1.0.0", "CC-BY-4.0", "Python-2.0"}


def fits(expression):
    # Enough of SPDX: any side of an OR, every side of an AND.
    text = expression.replace("/", " OR ").replace("(", "").replace(")", "")
    return any(all(part.strip() in ALLOWED for part in side.split(" AND ")) for side in re.split(r" OR ", text))


metadata = json.loads(subprocess.run(["cargo", "metadata", "--locked", "--format-version", "1"], check=True, capture_output=True, text=True).stdout)
bad = [f'{p["name"]} {p["version"]}: {p["license"]}' for p in metadata["packages"] if not fits(p["license"] or "") and not p.get("license_file")]
npm = {
    name.removeprefix("node_modules/"): entry.get("license", "")
    for lock in ("console/package-lock.json", "console/schema/package-lock.json")
    for name, entry in json.load(open(lock))["packages"].items()
    if name and not entry.get("optional")
}
bad += [f"{name}: {licence}" for name, licence in npm.items() if licence and not fits(licence)]
print(f'{len(metadata["packages"])} crates and {len(npm)} packages looked at')
if bad:
    sys.exit("not on the list of licences:\n  " + "\n  ".join(bad))
