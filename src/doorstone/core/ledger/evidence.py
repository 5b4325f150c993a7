"""Evidence packs: everything an auditor asks about a scope and a period, signed, checked without the service.

In: files by path, the scope, the head of the ledger, and what signs. Out: the files of a pack, its manifest and
signature among them; or what is wrong with a pack, in words. Same inputs, same bytes.
"""

from __future__ import annotations

import csv
import hashlib
import io
import json
from collections.abc import Callable, Iterator, Mapping
from datetime import date
from typing import Any

from msgspec import Struct

from doorstone.core.ledger.chain import START, entry_hash

PACK_FORMAT = 1
PACK_KIND = "evidence-pack"
MANIFEST, SIGNATURE, ENTRIES, CHAIN = "manifest.json", "manifest.sig", "ledger.ndjson", "chain.csv"
ENTRY_FIELDS = ("seq", "at", "actor", "via", "action", "kind", "object", "body", "previous")
CHAIN_COLUMNS = ("entry", "hash")


class PackScope(Struct, frozen=True):
    """What a pack is about: the words of whoever asked, its devices and exceptions, and the period."""

    words: str
    devices: tuple[str, ...]
    exceptions: tuple[str, ...]
    start: date
    end: date


def pack_files(
    scope: PackScope, as_of: date, head: str, files: Mapping[str, bytes], sign: Callable[[bytes], bytes]
) -> dict[str, bytes]:
    """The files of a pack by path, in order, with its manifest and signature. `head` is the ledger's, number:hash."""
    manifest = {
        "format": PACK_FORMAT,
        "kind": PACK_KIND,
        "scope": scope.words,
        "devices": list(scope.devices),
        "exceptions": list(scope.exceptions),
        "period": {"from": scope.start.isoformat(), "through": scope.end.isoformat()},
        "as_of": as_of.isoformat(),
        "ledger_head": head,
        "files": {path: hashlib.sha256(data).hexdigest() for path, data in sorted(files.items())},
    }
    made = dict(sorted(files.items()))
    made[MANIFEST] = (json.dumps(manifest, indent=1, ensure_ascii=False) + "\n").encode()
    made[SIGNATURE] = sign(made[MANIFEST])
    return dict(sorted(made.items()))


def chain_csv(hashes: Mapping[int, str]) -> bytes:
    """The hashes of entries by number, from the one before the first of the pack to the head."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(CHAIN_COLUMNS)
    writer.writerows(sorted(hashes.items()))
    return text.getvalue().encode()


def pack_faults(
    files: Mapping[str, bytes], signed: Callable[[bytes, bytes], bool] | None = None, kept: str = ""
) -> Iterator[str]:
    """What is wrong with a pack. `signed` says whether a signature fits a manifest; None: it is not asked.

    `kept` is a head of the ledger that was noted elsewhere, as number:hash.
    """
    manifest = _manifest(files)
    if manifest is None:
        yield f"{MANIFEST} is missing or cannot be read: this is no evidence pack"
        return
    if signed is not None:
        if SIGNATURE not in files:
            yield "it is not signed"
        elif not signed(files[MANIFEST], files[SIGNATURE]):
            yield "its signature does not fit: the manifest was changed, or another service made it"
    digests: dict[str, str] = manifest["files"]
    for path in sorted(digests):
        if path not in files:
            yield f"{path} is missing"
        elif hashlib.sha256(files[path]).hexdigest() != digests[path]:
            yield f"{path} was changed"
    for path in sorted(set(files) - set(digests) - {MANIFEST, SIGNATURE}):
        yield f"{path} does not belong to it"
    yield from _ledger_faults(files, str(manifest.get("ledger_head", "")), kept)


def _manifest(files: Mapping[str, bytes]) -> dict[str, Any] | None:
    try:
        data = json.loads(files[MANIFEST])
    except (KeyError, ValueError, RecursionError):
        return None
    fits = isinstance(data, dict) and data.get("format") == PACK_FORMAT and data.get("kind") == PACK_KIND
    if not fits or not isinstance(data.get("files"), dict):
        return None
    return dict(data) if all(isinstance(digest, str) for digest in data["files"].values()) else None


def _ledger_faults(files: Mapping[str, bytes], head: str, kept: str) -> Iterator[str]:
    """Entries that were altered or are gone, and hashes that do not lead to the head."""
    hashes = _hashes(files.get(CHAIN, b""))
    if hashes is None:
        yield f"{CHAIN} cannot be read"
        return
    numbers = sorted(hashes)
    if numbers and numbers != list(range(numbers[0], numbers[-1] + 1)):
        missing = sorted(set(range(numbers[0], numbers[-1])) - set(numbers))
        yield f"{CHAIN} lacks the hash of entry {missing[0]}"
    if numbers and head != f"{numbers[-1]}:{hashes[numbers[-1]]}":
        yield f"{CHAIN} does not end with the head that the manifest names"
    seq, _, digest = kept.partition(":")
    if kept and (not seq.isdecimal() or hashes.get(int(seq), digest) != digest):
        yield f"entry {seq} is not the one that was noted elsewhere"
    for at, line in enumerate(files.get(ENTRIES, b"").decode(errors="replace").splitlines(), 1):
        try:
            entry = json.loads(line)
            body = json.dumps(entry["body"], ensure_ascii=False, sort_keys=True)
            values: list[Any] = [body if name == "body" else entry[name] for name in ENTRY_FIELDS]
            number, own, before = int(entry["seq"]), str(entry["hash"]), str(entry["previous"])
        except (ValueError, KeyError, TypeError, RecursionError):
            yield f"line {at} of {ENTRIES} is no entry"
            continue
        if entry_hash(*values) != own:
            yield f"entry {number} of the ledger was altered"
        elif hashes.get(number) != own:
            yield f"entry {number} is not the one in {CHAIN}"
        elif before != (hashes.get(number - 1, "") if number > 1 else START):
            yield f"entry {number} does not follow the entry before it"


def _hashes(data: bytes) -> dict[int, str] | None:
    try:
        rows = list(csv.reader(io.StringIO(data.decode())))
        return {int(number): digest for number, digest in rows[1:]}
    except (ValueError, UnicodeDecodeError, csv.Error):
        return None


README = """# Evidence pack of Door Stone

About: {scope}
From {start} through {end}, as things stood on {as_of}.

| what | where |
|---|---|
| every exception that named these devices in this time, a row each | `register.csv` |
| each exception in full: terms, what was approved, conditions, comments | `exceptions/EX-....html` and `.json` |
| who runs what without permission on that day | `uncovered.csv` |
| each device: its life, what permits what it fails, attempts, results, observations, readings | `devices/....json` |
| how requirements were sorted, by whom, on what evidence | `decisions.json` |
| the sheets in force, with their lists | `sheets/` |
| the manifests of kits, with their signatures | `kits/` |
| the entries of the ledger about all this | `ledger.ndjson` |
| the hashes of every entry from the first of these to the last one there was | `chain.csv` |

## Check it

    doorstone evidence check PACK.zip --key doorstone-kits.pem

It needs no service and no network: only this file and the public key of the service that made it. The SHA-256 of every
file stands in `manifest.json`, which `manifest.sig` signs (Ed25519, base64). The hash of an entry is the SHA-256 of the
JSON array of its number, time, actor, way, action, kind, object, body (as JSON text, keys in order) and the hash of the
entry before it.
"""
