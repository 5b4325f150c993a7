"""Sheets: loading a revision, and the platforms as they stand."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass

from doorstone.core.platforms import Platform
from doorstone.formats.sheet import SheetError, read_sheet
from doorstone.store import sheets as store
from doorstone.work.desk import Actor, Desk, record
from doorstone.work.errors import BadInputError, MissingError, Trouble


@dataclass(frozen=True, slots=True)
class Sheet:
    """A loaded sheet and the platform that it describes."""

    revision: int
    sha256: str
    text: str
    lists: Mapping[str, str]
    loaded_at: str
    loaded_by: str
    platform: Platform


@dataclass(frozen=True, slots=True)
class LoadReport:
    platform: str
    revision: int
    changed: bool
    requirements: int
    overrides: int
    releases: int


def load_sheet(desk: Desk, actor: Actor, text: str, lists: Mapping[str, str], name: str) -> LoadReport:
    """Load a sheet as the platform's next revision; the same sheet again changes nothing. Raises `BadInputError`."""
    try:
        platform = read_sheet(text, lists, name)
    except SheetError as error:
        troubles = [
            Trouble(f"line {p.line}, {p.place}" if p.line else p.place, p.message, p.mend) for p in error.problems
        ]
        raise BadInputError(f"The sheet {name} is refused", "Mend each place and load it again", troubles) from error
    digest = hashlib.sha256(json.dumps([text, dict(sorted(lists.items()))]).encode()).hexdigest()
    with desk.database.write() as db:
        before = store.newest(db, platform.id)
        if before is not None and before.sha256 == digest:
            return _report(platform, before.revision, changed=False)
        revision = store.add(db, platform.id, digest, text, lists, desk.now(), actor.name)
        record(desk, db, actor, "sheet loaded", "sheet", platform.id, {"revision": revision, "sha256": digest})
    return _report(platform, revision, changed=True)


def _report(platform: Platform, revision: int, *, changed: bool) -> LoadReport:
    return LoadReport(
        platform.id, revision, changed, len(platform.requirements), len(platform.overrides), len(platform.releases)
    )


def all_sheets(desk: Desk) -> dict[str, Sheet]:
    """The newest sheet of every platform by platform id; each is read once and remembered."""
    with desk.database.read() as db:
        rows = store.every_newest(db)
    sheets = {}
    for row in rows:
        key = ("sheet", row.platform, row.revision)
        if key not in desk.memory:
            platform = read_sheet(row.text, row.lists, row.platform)
            desk.memory[key] = Sheet(
                row.revision, row.sha256, row.text, row.lists, row.loaded_at, row.loaded_by, platform
            )
        sheets[row.platform] = desk.memory[key]
    return sheets


def get_sheet(desk: Desk, platform: str) -> Sheet:
    """Raises `MissingError`, which names the platforms there are."""
    sheets = all_sheets(desk)
    if platform not in sheets:
        known = ", ".join(sheets) or "none is loaded yet"
        raise MissingError(f"There is no platform {platform!r}", f"Load its sheet first; known: {known}")
    return sheets[platform]


def need_release(platform: Platform, release: str) -> None:
    if not platform.has(release):
        known = ", ".join(r.id for r in platform.releases)
        raise MissingError(f"{platform.name} has no release {release!r}", f"Use one of {known}")
