"""Checking a kit: whether its files are those that were made, all of them and no others, and whether it still holds.

In: a kit's files by path, a day, and a test of the manifest's signature. Out: what is wrong, in words; nothing if it
is as it was made. And what differs between two kits.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterator, Mapping
from datetime import date
from typing import Any

from doorstone.core.kits.files import KIT_FORMAT

SUMS, MANIFEST, SIGNATURE = "SHA256SUMS", "manifest.json", "manifest.sig"
DIFFERING = (
    "platform", "sheet", "release", "route", "carry_over", "devices", "overrides", "exceptions", "excess", "waived",
    "settings", "sets", "media", "media_files", "loaders", "patches", "set_up", "expires",
)  # fmt: skip


def kit_faults(
    files: Mapping[str, bytes], today: date, signed: Callable[[bytes, bytes], bool] | None = None
) -> Iterator[str]:
    """What is wrong with a kit. `signed` says whether a signature fits a manifest; None: do not check the signature."""
    manifest = _manifest(files)
    if manifest is None:
        yield f"{MANIFEST} is missing or cannot be read: this is no kit"
        return
    if signed is not None:
        if SIGNATURE not in files:
            yield "it is not signed"
        elif not signed(files[MANIFEST], files[SIGNATURE]):
            yield "its signature does not fit: the manifest was changed, or another service made it"
    digests = manifest["files"]
    for path in sorted(digests):
        if path not in files:
            yield f"{path} is missing"
        elif hashlib.sha256(files[path]).hexdigest() != digests[path]:
            yield f"{path} was changed"
    for path in sorted(set(files) - set(digests) - {SUMS, MANIFEST, SIGNATURE}):
        yield f"{path} does not belong to it"
    yield from _sums(files, manifest["files"], {MANIFEST, SIGNATURE} if signed is None else set())
    expires = manifest.get("expires")
    try:
        over = expires is not None and today > date.fromisoformat(expires)
    except (TypeError, ValueError):
        yield f"its last day is {str(expires)[:40]!r}, which is no day"
        return
    if over:
        yield f"it was to be used through {expires}: an exception that it rests on has lapsed"


def _sums(files: Mapping[str, bytes], digests: Mapping[str, str], others: set[str]) -> Iterator[str]:
    """What is wrong with the digests beside the manifest: apply goes by them."""
    if SUMS not in files:
        yield f"{SUMS} is missing: apply would refuse the kit"
        return
    listed = {}
    for line in files[SUMS].decode(errors="replace").splitlines():
        digest, _, path = line.partition("  ")
        listed[path] = digest
    whole = {path: hashlib.sha256(files[path]).hexdigest() for path in others if path in files}
    for path, digest in sorted({**digests, **whole}.items()):
        if path not in listed:
            yield f"{SUMS} does not name {path}"
        elif listed[path] != digest:
            yield f"{SUMS} has another digest for {path}"
    for path in sorted(set(listed) - set(digests) - {MANIFEST, SIGNATURE}):
        yield f"{SUMS} names {path}, which does not belong to it"


def _manifest(files: Mapping[str, bytes]) -> dict[str, Any] | None:
    try:
        data = json.loads(files[MANIFEST])
    except (KeyError, ValueError, RecursionError):
        return None
    fits = isinstance(data, dict) and data.get("format") == KIT_FORMAT and isinstance(data.get("files"), dict)
    if not fits or not all(isinstance(digest, str) for digest in data["files"].values()):
        return None
    return dict(data)


def kit_differences(one: Mapping[str, bytes], other: Mapping[str, bytes]) -> list[tuple[str, str, str]]:
    """What differs between two kits: (what, in the one, in the other), from their manifests."""
    first, second = _manifest(one) or {}, _manifest(other) or {}
    return [
        (name, _words(first.get(name)), _words(second.get(name)))
        for name in DIFFERING
        if first.get(name) != second.get(name)
    ]


def _words(value: Any) -> str:
    if isinstance(value, list):
        return ", ".join(_words(item) for item in value) or "none"
    if isinstance(value, dict):
        if "name" in value and "value" in value:
            return f"{value['section']}/{value['name']} = {value['value']}"
        return str(value.get("id") or "; ".join(f"{key} {held}" for key, held in value.items()) or "none")
    return "none" if value is None else str(value)
