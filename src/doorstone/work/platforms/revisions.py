"""Revisions of sheets: what a changed sheet would do, loading it, and what its revisions said."""

from __future__ import annotations

import hashlib
import json
import sqlite3
from collections.abc import Mapping

from msgspec import Struct

from doorstone.core.devices.classes import Classifier
from doorstone.core.facts import BUILT_IN, FactSpec
from doorstone.core.platforms.declared_facts import unfit_values
from doorstone.core.platforms.differences import Change, differences
from doorstone.core.platforms.platform import Platform
from doorstone.formats.sheet import SheetError, read_sheet
from doorstone.store import platforms as store
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import disputes
from doorstone.store.devices import profiles as profile_store
from doorstone.store.readings import values as value_store
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, ErrorEntry, MissingError, RefusedError
from doorstone.work.platforms.torn_classes import torn_classes
from doorstone.work.snapshot.contents import batches
from doorstone.work.snapshot.settling import Settler, place
from doorstone.work.snapshot.sheets import Sheet, all_sheets, get_sheet, parsed, sheet_of


class LoadReport(Struct, frozen=True):
    platform: str
    revision: int
    changed: bool
    requirements: int
    overrides: int
    releases: int


class Revision(Struct, frozen=True):
    revision: int
    sha256: str
    loaded_at: str
    loaded_by: str
    changes: tuple[Change, ...]


def parse_sheet(text: str, lists: Mapping[str, str], name: str) -> Platform:
    """Read a sheet; raises `BadInputError` with an error for every place that is wrong."""
    try:
        return read_sheet(text, lists, name)
    except SheetError as error:
        errors = [
            ErrorEntry(f"line {p.line}, {p.place}" if p.line else p.place, p.message, p.hint) for p in error.problems
        ]
        raise BadInputError(f"The sheet {name} is refused", "Correct each place and load it again", errors) from error


def load_sheet(
    context: Context, actor: Actor, text: str, lists: Mapping[str, str], name: str, seen: int | None = None
) -> LoadReport:
    """Load a sheet as the platform's next revision; the same sheet again changes nothing. Raises `BadInputError`.

    With `seen`, the revision whose impact was looked at, it is refused if another has been loaded since.
    """
    platform = parse_sheet(text, lists, name)
    digest = digest_of(text, lists)
    parsed(text, tuple(sorted(lists.items())), platform.id)  # it may take seconds: not while others wait
    with context.database.write() as db:
        before = store.newest(db, platform.id)
        held = before.revision if before else 0
        if seen is not None and seen != held:
            raise RefusedError(
                f"{platform.id} is at revision {held}, you looked at the impact on {seen}",
                "Look at it again, then load",
            )
        if before is not None and before.sha256 == digest:
            return _report(platform, before.revision, changed=False)
        check_stored_values(context, db, platform)
        old = all_sheets(context).get(platform.id)
        revision = store.add(db, platform.id, digest, text, lists, context.now(), actor.name)
        new = all_sheets(context)[platform.id]
        if old is None or _seen_by(context, old) != _seen_by(context, new):
            place(context, db, _perhaps_elsewhere(context, db, old, new))
        body = {"revision": revision, "sha256": digest}
        record(context, db, actor, "sheet loaded", "sheet", platform.id, body)
    return _report(platform, revision, changed=True)


def check_stored_values(context: Context, db: sqlite3.Connection, platform: Platform) -> None:
    """Raise `BadInputError` for each declared fact whose stored values the sheet would give another meaning.

    A fact is compared with its declaration in the sheets of other platforms, and in the latest revision of this
    platform that declares it: values outlive the declaration under which they were read.
    """
    errors = []
    for name, spec in platform.specs.items():
        if name not in BUILT_IN and (before := _declared_before(context, db, platform.id, spec)) is not None:
            values = [json.loads(text) for text in value_store.of_fact(db, name)]
            if found := unfit_values(before, spec, values):
                errors.append(ErrorEntry(f"fact {name}", *found))
    if errors:
        raise BadInputError("The sheet would change what stored values mean", "Correct each fact, then load it", errors)


def _declared_before(context: Context, db: sqlite3.Connection, platform: str, spec: FactSpec) -> FactSpec | None:
    """The declaration under which values of a fact were read, if it differs from `spec`."""
    sheets = all_sheets(context)
    others = [one.platform.specs.get(spec.name) for name, one in sheets.items() if name != platform]
    mine = sheets[platform].platform.specs.get(spec.name) if platform in sheets else None
    if mine is None and value_store.of_fact(db, spec.name):
        for row in reversed(store.revisions(db, platform)):
            if (mine := sheet_of(row, []).platform.specs.get(spec.name)) is not None:
                break
    return next((before for before in (mine, *others) if before is not None and before != spec), None)


def _perhaps_elsewhere(context: Context, db: sqlite3.Connection, old: Sheet | None, new: Sheet) -> list[str]:
    """The devices that the new sheet may put in another class; each class gets the key that it has by that sheet.

    A class goes over as a whole, by the device that stands for it, unless the new sheet takes values apart that gave
    the same answers: then the devices leave it whose values now give others than that device's. Every device is named
    where the new sheet looks at other facts, or at words otherwise: contents of classes do not hold what they were not
    asked for.
    """
    platform = new.platform.id
    if old is None:
        return device_store.ids(db, platform)
    before, after = (Classifier(sheet.platform, context.today()) for sheet in (old, new))
    if not after.names <= before.names:
        return device_store.ids(db, platform)
    contents = profile_store.contents(db, profile_store.in_use(db, platform))
    moving = profile_store.rekey(db, {number: after.of(content) for number, content in contents.items()})
    torn = torn_classes(db, old, new, context.today(), contents)
    if torn is None:
        return device_store.ids(db, platform)
    split = {number: content for number, content in torn.classes.items() if number not in moving}
    settler, leaving = Settler(context, db), set[str]()
    for part in batches(device_store.ids_of_profiles(db, split), 1_000):
        records = device_store.records(db, part)
        known = settler.plain_values(list(records.values()), torn.facts.keys())
        leaving |= {
            device
            for device, record in records.items()
            if device not in known or not after.agree(split[record.profile or 0], known[device], torn.facts)
        }
    return sorted({*device_store.ids_of_profiles(db, moving), *leaving, *disputes.every_device(db, platform)})


def _seen_by(context: Context, sheet: Sheet) -> object:
    """All of a sheet that decides in which class a device is."""
    return Classifier(sheet.platform, context.today()).basis, sheet.requirement_by_message, sheet.reported


def digest_of(text: str, lists: Mapping[str, str]) -> str:
    return hashlib.sha256(json.dumps([text, dict(sorted(lists.items()))]).encode()).hexdigest()


def _report(platform: Platform, revision: int, *, changed: bool) -> LoadReport:
    return LoadReport(
        platform.id,
        revision,
        changed,
        len({r.id for r in platform.requirements}),
        len(platform.overrides),
        len(platform.releases),
    )


# ---------------------------------------------------------------- revisions


def revisions(context: Context, platform: str) -> list[Revision]:
    """Every revision of a platform's sheet, newest first, with what it changed."""
    get_sheet(context, platform)
    return context.cached(("revisions", platform), context.stamp().ledger, lambda: _revisions(context, platform))


def _revisions(context: Context, platform: str) -> list[Revision]:
    with context.database.read() as db:
        rows = store.revisions(db, platform)
    found = []
    before: Platform | None = None
    for row in rows:
        now = sheet_of(row, []).platform
        changes = differences(before, now) if before else ()
        found.append(Revision(row.revision, row.sha256, row.loaded_at, row.loaded_by, changes))
        before = now
    return found[::-1]


def compare_revisions(context: Context, platform: str, one: int, other: int) -> tuple[Change, ...]:
    """Everything that revision `other` says otherwise than revision `one`. Raises `MissingError`."""
    get_sheet(context, platform)
    with context.database.read() as db:
        rows = {row.revision: row for row in store.revisions(db, platform)}
    for number in (one, other):
        if number not in rows:
            raise MissingError(f"{platform} has no revision {number}", f"See 'doorstone sheet revisions {platform}'")
    before, after = (sheet_of(rows[number], []).platform for number in (one, other))
    return differences(before, after)


def get_revision(context: Context, platform: str, revision: int) -> str:
    """The TOML of one revision. Raises `MissingError`."""
    get_sheet(context, platform)
    with context.database.read() as db:
        row = next((r for r in store.revisions(db, platform) if r.revision == revision), None)
    if row is None:
        raise MissingError(f"{platform} has no revision {revision}", f"See 'doorstone sheet revisions {platform}'")
    return row.text
