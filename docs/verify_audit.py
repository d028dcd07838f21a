"""Verifies an audit log from its export and public key, as docs/audit-format.md describes.

    python3 verify_audit.py EXPORT KEY [--checkpoint NOTE | --since EARLIER]

Exits with 0 when the log is unchanged, with 1 and a sentence when it is not. It needs nothing but
Python and the openssl program, which checks the Ed25519 signatures.
"""

import argparse
import base64
import hashlib
import json
import subprocess
import sys
import tempfile

FORMAT = "jexlin audit export 1"
MEMBERS = {
    "action", "actor", "actor_name", "at", "detail", "id", "organisation", "origin", "outcome",
    "target", "target_name", "target_type",
}


class Changed(Exception):
    """The log is not what was signed."""


def sha256(*parts):
    return hashlib.sha256(b"".join(parts)).digest()


def leaf_hash(event):
    """The hash of the canonical JSON (RFC 8785) of an event, which holds nothing but strings."""
    if set(event) != MEMBERS:
        raise Changed("an event does not have the members of one")
    entry = json.dumps(event, ensure_ascii=False, sort_keys=True, separators=(",", ":"))
    return sha256(b"\x00", entry.encode())


class Tree:
    """The roots of the full subtrees, from the largest to the smallest, with their heights."""

    def __init__(self):
        self.size = 0
        self.subtrees = []

    def append(self, node):
        height = 0
        while self.subtrees and self.subtrees[-1][0] == height:
            node = sha256(b"\x01", self.subtrees.pop()[1], node)
            height += 1
        self.subtrees.append((height, node))
        self.size += 1

    def root(self):
        if not self.subtrees:
            return sha256(b"")
        node = self.subtrees[-1][1]
        for _, left in reversed(self.subtrees[:-1]):
            node = sha256(b"\x01", left, node)
        return node


class Key:
    """The public key of a log: name+hash+key."""

    def __init__(self, text):
        self.name, claimed, key = text.strip().split("+", 2)
        raw = base64.b64decode(key, validate=True)
        if raw[:1] != b"\x01" or len(raw) != 33:
            raise Changed("the key is not an Ed25519 key")
        self.hash = sha256(self.name.encode(), b"\n", raw)[:4]
        if self.hash.hex() != claimed:
            raise Changed("the hash of the key does not fit")
        # The public key as a SubjectPublicKeyInfo (RFC 8410).
        info = bytes.fromhex("302a300506032b6570032100") + raw[1:]
        self.pem = b"-----BEGIN PUBLIC KEY-----\n%s\n-----END PUBLIC KEY-----\n" % (
            base64.b64encode(info)
        )

    def is_signed(self, text, signature):
        with tempfile.NamedTemporaryFile() as key, tempfile.NamedTemporaryFile() as body, \
                tempfile.NamedTemporaryFile() as sig:
            for file, content in ((key, self.pem), (body, text.encode()), (sig, signature)):
                file.write(content)
                file.flush()
            command = ["openssl", "pkeyutl", "-verify", "-pubin", "-inkey", key.name, "-rawin",
                       "-in", body.name, "-sigfile", sig.name]
            return subprocess.run(command, capture_output=True, check=False).returncode == 0

    def open(self, note):
        """The size and the root that a checkpoint signs."""
        text, found, signatures = note.partition("\n\n")
        text += "\n"
        lines = text.split("\n")
        if not found or len(lines) < 4 or lines[0] != self.name:
            raise Changed("a checkpoint is not of this log")
        for line in signatures.split("\n"):
            start = "\u2014 %s " % self.name
            if not line.startswith(start):
                continue
            tagged = base64.b64decode(line[len(start):])
            if tagged[:4] == self.hash and self.is_signed(text, tagged[4:]):
                return int(lines[1]), base64.b64decode(lines[2])
        raise Changed("a checkpoint is not signed with this key")


def read(path):
    """The leaves, the strays and the checkpoints of an export."""
    leaves, strays, notes = [], [], []
    with open(path, encoding="utf-8") as file:
        lines = [json.loads(line) for line in file if line.strip()]
    if not lines or lines[0].get("line") != "log" or lines[0].get("format") != FORMAT:
        raise Changed("this is not an audit export")
    for line in lines[1:]:
        kind = line["line"]
        if kind == "leaf":
            leaves.append(line)
        elif kind == "stray":
            strays.append(line["event"])
        elif kind == "checkpoint":
            notes.append(line["note"])
        else:
            raise Changed("the export holds a line that does not belong there")
    return leaves, strays, notes


def verify(path, key):
    """The leaf hashes of an export that is right, and how many of them are signed."""
    leaves, strays, notes = read(path)
    checkpoints = sorted(key.open(note) for note in notes)
    hashes = []
    for place, leaf in enumerate(leaves):
        if leaf["index"] != place or leaf["event"] is None:
            raise Changed("event %d is not there" % place)
        own = leaf_hash(leaf["event"])
        if own != base64.b64decode(leaf["hash"]):
            raise Changed("event %d is not the one that was sealed" % place)
        hashes.append(own)
    tree = Tree()
    for size, root in checkpoints:
        if size > len(hashes):
            raise Changed("%d events are there, %d were signed" % (len(hashes), size))
        while tree.size < size:
            tree.append(hashes[tree.size])
        if tree.root() != root:
            raise Changed("the first %d events are not those that were signed" % size)
    if tree.size < len(hashes) or strays:
        raise Changed("there are events that nobody signed")
    return hashes, tree.size


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("export")
    parser.add_argument("key")
    parser.add_argument("--checkpoint")
    parser.add_argument("--since")
    options = parser.parse_args()
    with open(options.key, encoding="utf-8") as file:
        key = Key(file.read())
    hashes, signed = verify(options.export, key)
    if options.checkpoint:
        with open(options.checkpoint, encoding="utf-8") as file:
            size, root = key.open(file.read())
        tree = Tree()
        for node in hashes[:size]:
            tree.append(node)
        if tree.size < size or tree.root() != root:
            raise Changed("the log does not continue that of the earlier checkpoint")
    if options.since:
        earlier, proved = verify(options.since, key)
        if hashes[:proved] != earlier[:proved]:
            raise Changed("the log does not continue that of the earlier export")
    print("The log is unchanged: %d events." % signed)


if __name__ == "__main__":
    try:
        main()
    except Changed as changed:
        print("The log has been changed: %s." % changed)
        sys.exit(1)
