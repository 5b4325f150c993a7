"""Import of readings: a file is received, checked to its end, and only then applied.

An import is cancelled or refused before anything has changed, or it is carried to its end. Readings are applied in
small transactions, so that others can work meanwhile. If the service stops in the middle, the import goes on where it
was.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
import secrets
import sqlite3
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing
from datetime import timedelta
from pathlib import Path
from typing import Any, BinaryIO

from msgspec import Struct

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.people import REPORTER
from doorstone.core.sorting.counts import Sorted
from doorstone.formats.mapping import ColumnMapping, MappingError, read_mapping
from doorstone.formats.readings import FORMS, FilePart, read_columns
from doorstone.store.database import has_no_room
from doorstone.store.devices import devices as device_store
from doorstone.store.readings import imports as store
from doorstone.store.readings.contents import Content, codes_of, digest
from doorstone.store.readings.imports import ImportRow, ProblemLine
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before, record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, ErrorEntry, MissingError, NoRoomError, RefusedError
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.readings import checks
from doorstone.work.readings.record_files import unusable
from doorstone.work.readings.spool import Block, CheckedReading, ReadyReader, ReadyWriter, SpoiledError
from doorstone.work.snapshot.class_cases import IngestCache
from doorstone.work.snapshot.contents import ContentCache, NewReadings, batches, current_contents
from doorstone.work.snapshot.settling import Settler
from doorstone.work.snapshot.settling_rules import all_specs
from doorstone.work.snapshot.sheets import all_sheets
from doorstone.work.snapshot.snapshot import snapshot

CHUNK = 1_000  # readings applied in one transaction
BESIDE_PAGES = 250  # the same while people ask for pages: a page that comes meanwhile shares the interpreter with it
CHECKED = 10_000  # readings checked between two looks at whether to go on
MOST_PROBLEMS = 10_000
A_DAY = timedelta(days=1)  # that a clock may be ahead
DECIDERS = ("approver", "administrator")
OPEN = ("waiting", "received", "checking")


class ImportOptions(Struct, frozen=True):
    """How to import: `skip` leaves bad lines out instead of refusing the file; `dry` only says what would change."""

    form: str
    name: str = ""
    dry: bool = False
    skip: bool = False
    mapping: str = ""


class Import(Struct, frozen=True):
    """An import as it stands. States: waiting, received, checking, applying; done, refused, cancelled, failed."""

    id: str
    row: ImportRow

    @property
    def ended(self) -> bool:
        return self.row.ended_at != ""

    @property
    def changes(self) -> Mapping[str, Any] | None:
        found: Mapping[str, Any] | None = json.loads(self.row.changes) if self.row.changes else None
        return found


def begin(context: Context, actor: Actor, given: ImportOptions) -> Import:
    """Open an import; its file comes with `receive`. A mapping that cannot be used is refused here."""
    if given.form not in FORMS:
        raise BadInputError(f"{given.form!r} is not a form of readings", f"Use one of {', '.join(FORMS)}")
    _mapping(context, given.mapping)
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            return get_import(context, before)
        values = {
            "at": context.now(),
            "by": actor.name,
            "form": given.form,
            "name": given.name,
            "dry": int(given.dry),
            "skip": int(given.skip),
            "mapping": given.mapping,
            "narrow": int(actor.role == REPORTER),
            "only_device": actor.device,
            "may_decide": int(actor.role in DECIDERS),
        }
        name = id_of("IM", store.add(db, values))
        body = {"form": given.form, "name": given.name, "dry": given.dry, "skip": given.skip}
        record(context, db, actor, "import begun", "import", name, body, creates=True)
    return get_import(context, name)


def _mapping(context: Context, text: str) -> ColumnMapping | None:
    if not text.strip():
        return None
    try:
        return read_mapping(text, all_specs(all_sheets(context)), context.moment())
    except MappingError as error:
        raise unusable(error) from error


def receive(context: Context, actor: Actor, name: str, stream: BinaryIO, length: int | None = None) -> Import:
    """Take in the import's file, in pieces; `length` is its announced length in bytes.

    It counts once it has come whole and stands on the disk. Raises `RefusedError` if there is one already, or if
    another came first; `BadInputError` if it was cut off.
    """
    found = get_import(context, name)
    if found.row.by != actor.name and actor.role != "administrator":
        raise RefusedError(f"{name} was begun by {found.row.by}", "Begin an import of your own")
    if found.row.state != "waiting":
        raise RefusedError(f"{name} is {found.row.state}; it has its file already", "Begin another import")
    path = _file(context, found.row.id, "raw")
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    part = path.with_name(f"{path.name}.{secrets.token_hex(6)}")
    size, digest = 0, hashlib.sha256()
    try:
        with part.open("xb") as file:
            while piece := stream.read(1 << 16):
                size += file.write(piece)
                digest.update(piece)
            file.flush()
            os.fsync(file.fileno())
        if length is not None and size != length:
            raise BadInputError(f"The file was cut off: {size:,} of {length:,} bytes came", "Send it again, whole")
        with context.database.write() as db:
            state = get_import(context, name).row.state
            if state != "waiting":
                raise RefusedError(f"{name} is {state}; it has its file already", "Begin another import")
            part.replace(path)
            _keep_folder(path.parent)
            store.keep_file(db, found.row.id, size, digest.hexdigest())
    finally:
        part.unlink(missing_ok=True)
    return get_import(context, name)


def _keep_folder(folder: Path) -> None:
    """Make sure that the folder's entries are on the disk."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _check_whole(path: Path, wanted: str) -> None:
    """Raises `SpoiledError` unless the file has this SHA-256."""
    try:
        with path.open("rb") as file:
            found = hashlib.file_digest(file, "sha256").hexdigest()
    except FileNotFoundError:
        found = ""
    if found != wanted:
        raise SpoiledError(f"{path.name} is not the file that was kept")


def _file(context: Context, number: int, kind: str) -> Path:
    return context.database.path.parent / "imports" / f"{id_of('IM', number)}.{kind}"


def cancel(context: Context, actor: Actor, name: str) -> Import:
    """Cancel an import that has changed nothing yet. Raises `RefusedError` once it is being applied or has ended."""
    with context.database.write() as db:
        found = get_import(context, name)
        if found.row.state == "applying":
            hint = "Let it end; a further reading puts right what is wrong"
            raise RefusedError(f"{name} is being taken over and will be finished", hint)
        if found.ended:
            raise RefusedError(f"{name} is {found.row.state}", "There is nothing to cancel")
        store.move(db, found.row.id, "cancelled", why=f"cancelled by {actor.name}", ended_at=context.now())
        record(context, db, actor, "import cancelled", "import", name, {})
    return get_import(context, name)


class HaltedError(Exception):
    """The service is stopping: the import stays as it is, and goes on when the service starts again."""


def _never() -> bool:
    return False


def run(context: Context, name: str, halt: Callable[[], bool] = _never) -> Import:
    """Check the received file and, unless something is wrong or it is a dry run, apply it.

    `halt` is asked between transactions. Once it returns true, the import is left to `resume`. Raises `NoRoomError`
    where the disk is full: the import keeps its state, and can be run again once there is space.
    """
    row = get_import(context, name).row
    try:
        if row.state in ("received", "checking") and _check(context, row, halt):
            if row.dry:
                _try_out(context, row, halt)
            elif _move_on(context, row.id, "applying"):
                _apply(context, row, halt)
        elif row.state == "applying":
            _apply(context, row, halt)
    except HaltedError:
        pass
    except Exception as error:
        if has_no_room(error, context.database.path.parent):
            words = f"The disk is full; {name} has its file, and goes on once there is room"
            raise NoRoomError(words, f"Free some space; see it with 'doorstone reading show {name}'", name) from error
        now = get_import(context, name).row
        why = str(error) if isinstance(error, SpoiledError) else "something failed; the service's log has the cause"
        taken = f"{now.applied:,} of {now.checked:,} readings were taken over" if now.applied else "nothing was changed"
        _end(context, row.id, "failed", f"{why}; {taken}. Import the file again: what is known already changes nothing")
        if not isinstance(error, SpoiledError):
            raise
    finally:
        if get_import(context, name).ended:
            for kind in ("raw", "ready"):
                _file(context, row.id, kind).unlink(missing_ok=True)
    return get_import(context, name)


def _move_on(context: Context, number: int, state: str) -> bool:
    """Go on to the next stage, unless somebody has cancelled it."""
    with context.database.write() as db:
        row = store.get(db, number)
        if row is None or row.state not in OPEN:
            return False
        store.move(db, number, state)
    return True


def _end(context: Context, number: int, state: str, why: str) -> None:
    with context.database.write() as db:
        row = store.get(db, number)
        if row is not None and not row.ended_at:
            store.move(db, number, state, why=why, ended_at=context.now())


def _check(context: Context, row: ImportRow, halt: Callable[[], bool]) -> bool:
    """Read the file to its end and write good readings to the spool. Returns whether they may be applied."""
    if not _move_on(context, row.id, "checking"):
        return False
    with context.database.write() as db:
        store.clear_problems(db, row.id)
    _check_whole(_file(context, row.id, "raw"), row.sha256)
    checked = rejected = kept_lines = 0
    fatal = False
    latest = (context.moment() + A_DAY).isoformat()
    asked: set[tuple[str, str, str]] = set()
    good = ReadyWriter(_file(context, row.id, "ready"))
    with _file(context, row.id, "raw").open("rb") as stream, closing(good):
        found = read_columns(stream, row.form, all_specs(all_sheets(context)), _mapping(context, row.mapping))
        while part := _part(context, found):
            if halt():
                raise HaltedError
            readings, problems = checks.sifted(row, part, latest)
            notes = [] if row.may_decide else checks.kept_as_they_are(context, readings)
            notes += checks.nobody_knows(context, readings, asked)
            good.write(readings)
            fatal = fatal or any(problem.fatal for problem in problems)
            with context.database.write() as db:
                state = store.get(db, row.id)
                if state is None or state.state != "checking":
                    return False
                kept = problems[: max(0, MOST_PROBLEMS - kept_lines)]
                lines = [ProblemLine(p.line, p.place if p.word == "line" else p.where, p.message, p.hint) for p in kept]
                lines += [
                    ProblemLine(p.line, p.place, p.message, p.hint) for p in notes[: max(0, MOST_PROBLEMS - kept_lines)]
                ]
                store.add_problems(db, row.id, kept_lines + 1, lines)
                kept_lines += len(lines)
                checked += sum(len(some.lines) for some in readings)
                rejected += len(problems)
                store.keep_checked(db, row.id, min(stream.tell(), row.size), checked, rejected)
    with context.database.write() as db:
        store.keep_ready(db, row.id, good.digest())
    if fatal or (rejected and not row.skip) or not checked:
        lines_ = "1 line" if rejected == 1 else f"{rejected} lines"
        why = "the file cannot be used" if fatal else f"{lines_} cannot be read"
        _end(context, row.id, "refused", f"Nothing was imported: {why}")
        return False
    return True


def _part(context: Context, found: Iterator[FilePart]) -> list[FilePart]:
    """The next rows to check. Between pieces of it, pages and writes go first."""
    part, rows = list[FilePart](), 0
    while rows < CHECKED and (some := next(found, None)) is not None:
        part.append(some)
        rows += len(some.readings.lines) + len(some.problems)
        context.write_priority.give_way_to_pages()
    return part


def _apply(context: Context, row: ImportRow, halt: Callable[[], bool], *, noted: bool = True) -> None:
    """Apply what was checked, from where the import stood, and mark the import as done."""
    with context.database.wide():
        _take_over(context, row, halt)
    with context.database.write() as db:
        done = store.finish(db, row.id, context.now())
        if noted:
            body = {
                "readings": done.readings, "devices": done.devices, "added": done.added, "form": done.form,
                "rejected": done.rejected,
            }  # fmt: skip
            actor = Actor(done.by, "technician", "import")
            record(context, db, actor, "readings imported", "import", id_of("IM", row.id), body)


def _take_over(context: Context, row: ImportRow, halt: Callable[[], bool]) -> None:
    """Apply what was checked in small transactions, so that others can write between them."""
    _check_whole(_file(context, row.id, "ready"), get_import(context, id_of("IM", row.id)).row.ready_sha256)
    known = IngestCache()
    applied = get_import(context, id_of("IM", row.id)).row.applied
    ready = ReadyReader(_file(context, row.id, "ready"))
    numbers = _SpoolNumbers(known.contents, ready)
    for block in ready.blocks(applied):
        last, held = 0, len(block.devices)
        while last < held:
            if halt():
                raise HaltedError
            context.write_priority.give_way_to_pages()
            began = time.perf_counter()
            first, last = last, min(last + (BESIDE_PAGES if context.write_priority.asked else CHUNK), held)
            with context.database.write() as db:
                settler = Settler(context, db, known)
                known = settler.known
                counted = settler.ingest_all(
                    numbers.readings_of(db, block.part(first, last)), row.id, obeyed=row.may_decide
                )
                store.keep_applied(db, row.id, last - first, counted.first, counted.added)
            context.write_priority.rest(time.perf_counter() - began)


class _SpoolNumbers:
    """Gives the contents of a spool their numbers in the records."""

    def __init__(self, contents: ContentCache, ready: ReadyReader) -> None:
        self._contents, self._ready = contents, ready
        self._table = -1
        self._values: list[int] = []
        self._shapes: list[int] = []

    def readings_of(self, db: sqlite3.Connection, part: Block) -> NewReadings:
        """The readings of a part of the block that was read last; contents and values that are new are kept."""
        ready = self._ready
        if self._table != ready.table:
            self._table, self._values, self._shapes = ready.table, [], []
        self._values += self._contents.new_value_numbers(db, ready.values[len(self._values) :])
        self._shapes += [self._contents.shape_number(db, names) for names in ready.shapes[len(self._shapes) :]]
        number = self._values.__getitem__
        codes = [list(map(number, one)) for one in part.numbers]
        more = [part.more.get(place, "") for place in range(len(codes))] if part.more else [""] * len(codes)
        shapes = map(self._shapes.__getitem__, part.shape)
        made = list(map(Content, shapes, map(codes_of, codes), more))
        digests = dict(zip(made, map(digest, made, codes), strict=True))
        numbers = self._contents.numbers_of(db, digests, Counter(made))
        return NewReadings(
            part.devices,
            part.sources,
            part.times,
            list(map(numbers.__getitem__, made)),
            made,
            codes,
            list(map(part.abouts.__getitem__, part.about)),
        )


# ------------------------------------------------------------------- dry run


class _Stand(Struct, frozen=True):
    """How a device stands: on which platform, at which release, its state and marks."""

    platform: str
    release: str
    found: Sorted


def _try_out(context: Context, row: ImportRow, halt: Callable[[], bool]) -> None:
    """Apply it to a copy of the records, compare, and throw the copy away."""
    with tempfile.TemporaryDirectory(dir=context.database.path.parent) as folder:
        copy = context.database.copy(Path(folder) / "doorstone.db")
        trial = Context(copy, context.clock, context.policy)
        try:
            before = _standing(trial)
            ready = _file(context, row.id, "ready")
            facts = _facts_changed(trial, ReadyReader(ready).readings())
            linked = _file(trial, row.id, "ready")
            linked.parent.mkdir(exist_ok=True)
            linked.hardlink_to(ready)
            _apply(trial, row, halt, noted=False)
            after = _standing(trial)
            found = {"moves": _moves(before, after), "disputes": _disputes(before, after), "facts": facts}
            done = get_import(trial, id_of("IM", row.id)).row
        finally:
            copy.close()
    with context.database.write() as db:
        if store.get(db, row.id) == get_import(context, id_of("IM", row.id)).row:
            store.keep_changes(db, row.id, json.dumps(found), done)
    _end(context, row.id, "done", "Nothing was changed: it was a dry run")


def _standing(context: Context) -> dict[str, _Stand]:
    """How each device stands at the newest release that is out."""
    standing = {}
    for name, sheet in all_sheets(context).items():
        out = [r.id for r in sheet.platform.releases if r.published <= context.today()]
        release = out[-1] if out else sheet.platform.releases[0].id
        for row, found in snapshot(context).find(sheet.platform, release, DeviceFilter()):
            standing[row.id] = _Stand(name, release, found)
    return standing


def _moves(before: Mapping[str, _Stand], after: Mapping[str, _Stand]) -> list[dict[str, Any]]:
    """Devices whose state would change, at most 20 named of each kind. `was` is empty for new devices."""
    moved: dict[tuple[str, str, str, str], list[str]] = {}
    for device, now in sorted(after.items()):
        was = before[device].found.state if device in before else ""
        if was != now.found.state:
            moved.setdefault((now.platform, now.release, was, now.found.state), []).append(device)
    return [
        {"platform": p, "release": r, "was": was, "becomes": becomes, "count": len(found), "devices": found[:20]}
        for (p, r, was, becomes), found in sorted(moved.items())
    ]


def _disputes(before: Mapping[str, _Stand], after: Mapping[str, _Stand]) -> list[dict[str, Any]]:
    """Findings that would become disputed, by requirement, even where the state stays; at most 20 devices of each."""
    newly: dict[tuple[str, str, str], list[str]] = {}
    for device, now in sorted(after.items()):
        marks = before[device].found.marks if device in before else {}
        for requirement, mark in now.found.marks.items():
            if mark == "disputed" and marks.get(requirement) != "disputed":
                newly.setdefault((now.platform, now.release, requirement), []).append(device)
    return [
        {"platform": p, "release": r, "requirement": requirement, "count": len(found), "devices": found[:20]}
        for (p, r, requirement), found in sorted(newly.items())
    ]


def _facts_changed(context: Context, found: Iterator[CheckedReading]) -> list[dict[str, Any]]:
    """Per fact: on how many devices the source's value would change, with one example."""
    counts: Counter[str] = Counter()
    examples: dict[str, dict[str, Any]] = {}
    contents = ContentCache()
    with context.database.read() as db:
        for part in batches(found, CHUNK):
            held = device_store.records(db, {new.device for new in part})
            for new in part:
                words = contents.by_source(db, current_contents(held[new.device])) if new.device in held else {}
                mine = sorted(words.get(new.source, {}).items())
                newest = {name: (at, value) for at, one in mine for name, value in one.facts.items()}
                for name, value in new.facts.items():
                    at, was = newest.get(name, ("", None))
                    if at and at <= new.taken_at and was != value:
                        counts[name] += 1
                        examples.setdefault(name, {"device": new.device, "was": was, "becomes": value})
    return [{"fact": name, "devices": n, **examples[name]} for name, n in counts.most_common(50)]


# ------------------------------------------------------------------ at once


def import_readings(context: Context, actor: Actor, text: str, given: ImportOptions) -> Import:
    """Import a text at once. Raises `BadInputError` with an error for each of the first hundred bad lines.

    A repeated call gives the import as it stands. Raises `NoRoomError` where the disk is full.
    """
    found = begin(context, actor, given)
    if found.row.state == "waiting":
        try:
            receive(context, actor, found.id, io.BytesIO(text.encode("utf-8", "surrogatepass")))
        except (OSError, sqlite3.Error) as error:
            if not has_no_room(error, context.database.path.parent):
                raise
            hint = "Free some space, and send the file again with the same Idempotency-Key, or as an import of its own"
            raise NoRoomError(f"The disk is full; {found.id} was begun, and its file was not kept", hint) from error
        found = run(context, found.id)
    if found.row.state == "refused":
        raise refusal(context, found)
    return found


def refusal(context: Context, ended: Import) -> BadInputError:
    """The error of a refused import, with an entry for each bad line."""
    errors = [
        ErrorEntry(p.place if p.place.startswith("item ") else f"line {p.line}, {p.place}", p.message, p.hint)
        for p in import_problems(context, ended.id)
    ]
    return BadInputError(ended.row.why, "Correct them and import again", errors)


# ------------------------------------------------------------------- looking


def get_import(context: Context, name: str) -> Import:
    """One import. Raises `MissingError`."""
    with context.database.read() as db:
        row = store.get(db, number_of("IM", name))
    if row is None:
        raise MissingError(f"There is no import {name!r}", "See them with 'doorstone reading list'")
    return Import(name, row)


def list_imports(context: Context) -> list[Import]:
    """The last 50, newest first."""
    with context.database.read() as db:
        return [Import(id_of("IM", row.id), row) for row in store.every(db)]


def import_problems(context: Context, name: str, after: int = 0, limit: int = 100) -> list[store.ProblemRow]:
    """The lines that were rejected, in order, those after number `after`; the first 10,000 are kept."""
    with context.database.read() as db:
        return store.problems(db, get_import(context, name).row.id, after, limit)


def resume(context: Context) -> list[str]:
    """The imports that a stopped service left, to be run again. An import without its file is cancelled."""
    with context.database.read() as db:
        rows = store.unfinished(db)
    left = []
    for row in rows:
        if row.state == "waiting":
            _end(context, row.id, "cancelled", "The service stopped before the file had come")
        else:
            left.append(id_of("IM", row.id))
    return left
