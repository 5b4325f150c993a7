"""Intake: a file of readings is received, checked to its end, and only then taken over.

An import is cancelled or refused before anything has changed, or it is carried to its end: taking over goes in small
transactions, so that others can work meanwhile, and goes on where it was if the service stops in the middle of it.
"""

from __future__ import annotations

import io
import json
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any, BinaryIO

from doorstone.formats.mapping import ColumnMapping, MappingError, read_mapping
from doorstone.formats.readings import FORMS, read_stream
from doorstone.formats.records import ImportProblem, ReadingRecord
from doorstone.store import devices as device_store
from doorstone.store import imports as store
from doorstone.store.imports import ImportRow
from doorstone.work.board import find_devices
from doorstone.work.desk import Actor, Desk, id_of, made_before, number_of, record
from doorstone.work.errors import BadInputError, MissingError, RefusedError, Trouble
from doorstone.work.hearing import NewReading, Shelf, batches, heard_of
from doorstone.work.people import REPORTER
from doorstone.work.profiles import Known, Settler, all_specs
from doorstone.work.ready import ReadyWriter, Told, read_ready, told
from doorstone.work.sheets import all_sheets

CHUNK = 4_000  # readings taken over in one transaction at most
SMALL = 100  # and at least
CALM, BRISK = 0.15, 0.03  # seconds that a transaction may take: while nobody else writes, and while somebody does
CHECKED = 10_000  # readings checked between two looks at whether to go on
MOST_PROBLEMS = 10_000
OPEN = ("waiting", "received", "checking")


@dataclass(frozen=True, slots=True)
class ImportGiven:
    """How to import: `skip` leaves bad lines out instead of refusing the file; `dry` only says what would change."""

    form: str
    name: str = ""
    dry: bool = False
    skip: bool = False
    mapping: str = ""


@dataclass(frozen=True, slots=True)
class Import:
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


def begin(desk: Desk, actor: Actor, given: ImportGiven) -> Import:
    """Open an import; its file comes with `receive`. A mapping that cannot be used is refused here."""
    if given.form not in FORMS:
        raise BadInputError(f"{given.form!r} is not a form of readings", f"Use one of {', '.join(FORMS)}")
    _mapping(desk, given.mapping)
    with desk.database.write() as db:
        if before := made_before(db, actor):
            return get_import(desk, before)
        values = {
            "at": desk.now(),
            "by": actor.name,
            "form": given.form,
            "name": given.name,
            "dry": int(given.dry),
            "skip": int(given.skip),
            "mapping": given.mapping,
            "narrow": int(actor.role == REPORTER),
            "only_device": actor.device,
        }
        name = id_of("IM", store.add(db, values))
        body = {"form": given.form, "name": given.name, "dry": given.dry, "skip": given.skip}
        record(desk, db, actor, "import begun", "import", name, body, creates=True)
    return get_import(desk, name)


def _mapping(desk: Desk, text: str) -> ColumnMapping | None:
    if not text.strip():
        return None
    try:
        return read_mapping(text, all_specs(all_sheets(desk)))
    except MappingError as error:
        troubles = [
            Trouble(f"line {p.line}, {p.place}" if p.line else p.place, p.message, p.mend) for p in error.problems
        ]
        raise BadInputError("The mapping cannot be used", "Mend each place", troubles) from error


def receive(desk: Desk, actor: Actor, name: str, stream: BinaryIO) -> Import:
    """Take in the import's file, in pieces. Raises `RefusedError` if it has one already."""
    found = get_import(desk, name)
    if found.row.by != actor.name and actor.role != "administrator":
        raise RefusedError(f"{name} was begun by {found.row.by}", "Begin an import of your own")
    if found.row.state != "waiting":
        raise RefusedError(f"{name} is {found.row.state}; it has its file already", "Begin another import")
    path = _file(desk, found.row.id, "raw")
    path.parent.mkdir(parents=True, exist_ok=True)
    size = 0
    with path.open("wb") as file:
        while piece := stream.read(1 << 16):
            size += file.write(piece)
    with desk.database.write() as db:
        if get_import(desk, name).row.state == "waiting":
            store.keep_size(db, found.row.id, size)
    return get_import(desk, name)


def _file(desk: Desk, number: int, kind: str) -> Path:
    return desk.database.path.parent / "imports" / f"{id_of('IM', number)}.{kind}"


def cancel(desk: Desk, actor: Actor, name: str) -> Import:
    """Cancel an import that has changed nothing yet. Raises `RefusedError` once it takes over or has ended."""
    with desk.database.write() as db:
        found = get_import(desk, name)
        if found.row.state == "applying":
            mend = "Let it end; a further reading puts right what is wrong"
            raise RefusedError(f"{name} is being taken over and will be finished", mend)
        if found.ended:
            raise RefusedError(f"{name} is {found.row.state}", "There is nothing to cancel")
        store.move(db, found.row.id, "cancelled", why=f"cancelled by {actor.name}", ended_at=desk.now())
        record(desk, db, actor, "import cancelled", "import", name, {})
    return get_import(desk, name)


class HaltedError(Exception):
    """The service is stopping: the import stays as it is, and goes on when the service starts again."""


def _never() -> bool:
    return False


def run(desk: Desk, name: str, halt: Callable[[], bool] = _never) -> Import:
    """Check the received file and, unless something is wrong or it is a dry run, take it over.

    `halt` is asked between transactions; once it says so, the import is left to `resume`.
    """
    row = get_import(desk, name).row
    try:
        if row.state in ("received", "checking") and _check(desk, row, halt):
            if row.dry:
                _try_out(desk, row, halt)
            elif _move_on(desk, row.id, "applying"):
                _apply(desk, row, halt)
        elif row.state == "applying":
            _apply(desk, row, halt)
    except HaltedError:
        pass
    except Exception:
        if get_import(desk, name).row.state != "applying":
            _end(desk, row.id, "failed", "Something failed that should not have; the service's log has the cause")
        raise
    finally:
        if get_import(desk, name).ended:
            for kind in ("raw", "ready"):
                _file(desk, row.id, kind).unlink(missing_ok=True)
    return get_import(desk, name)


def _move_on(desk: Desk, number: int, state: str) -> bool:
    """Go on to the next stage, unless somebody has cancelled it."""
    with desk.database.write() as db:
        row = store.get(db, number)
        if row is None or row.state not in OPEN:
            return False
        store.move(db, number, state)
    return True


def _end(desk: Desk, number: int, state: str, why: str) -> None:
    with desk.database.write() as db:
        row = store.get(db, number)
        if row is not None and not row.ended_at:
            store.move(db, number, state, why=why, ended_at=desk.now())


def _check(desk: Desk, row: ImportRow, halt: Callable[[], bool]) -> bool:
    """Read the file to its end; what is good goes to a second file. Returns whether it may be taken over."""
    if not _move_on(desk, row.id, "checking"):
        return False
    with desk.database.write() as db:
        store.clear_problems(db, row.id)
    checked = rejected = 0
    fatal = False
    good = ReadyWriter(_file(desk, row.id, "ready"))
    with _file(desk, row.id, "raw").open("rb") as stream, closing(good):
        found = read_stream(stream, row.form, all_specs(all_sheets(desk)), _mapping(desk, row.mapping))
        while part := list(islice(found, CHECKED)):
            if halt():
                raise HaltedError
            if row.narrow or row.only_device:
                part = [_allowed(row, one) if isinstance(one, ReadingRecord) else one for one in part]
            problems = [one for one in part if isinstance(one, ImportProblem)]
            records = [one for one in part if isinstance(one, ReadingRecord)]
            good.write(records)
            fatal = fatal or any(problem.fatal for problem in problems)
            with desk.database.write() as db:
                state = store.get(db, row.id)
                if state is None or state.state != "checking":
                    return False
                kept = problems[: max(0, MOST_PROBLEMS - rejected)]
                lines = [(p.line, p.place if p.word == "line" else p.where, p.message, p.mend) for p in kept]
                store.add_problems(db, row.id, rejected + 1, lines)
                checked, rejected = checked + len(records), rejected + len(problems)
                store.keep_checked(db, row.id, min(stream.tell(), row.size), checked, rejected)
    if fatal or (rejected and not row.skip) or not checked:
        lines_ = "1 line" if rejected == 1 else f"{rejected} lines"
        why = "the file cannot be used" if fatal else f"{lines_} cannot be read"
        _end(desk, row.id, "refused", f"Nothing was imported: {why}")
        return False
    return True


def _allowed(row: ImportRow, one: ReadingRecord) -> ReadingRecord | ImportProblem:
    """A narrow token speaks of its own device only, and never as an operator."""
    if row.only_device and one.device != row.only_device:
        message = f"This token may only post readings of {row.only_device}"
        return ImportProblem(one.line, "device", message, f"Leave {one.device} out, or use another token")
    if row.narrow and one.source in ("operator", "attempt"):
        message = f"A token for readings cannot speak as {one.source}"
        return ImportProblem(one.line, "source", message, "Use the collector's or a source of your own")
    return one


def _apply(desk: Desk, row: ImportRow, halt: Callable[[], bool], *, noted: bool = True) -> None:
    """Take over what was checked, in small transactions, from where it stood."""
    desk.database.widen()
    known = Known()
    size = min(SMALL, CHUNK)
    applied = get_import(desk, id_of("IM", row.id)).row.applied
    for block in read_ready(_file(desk, row.id, "ready"), applied):
        rest = iter(block.readings)
        while part := list(islice(rest, size)):
            if halt():
                raise HaltedError
            desk.traffic.give_way()
            began = time.monotonic()
            with desk.database.write() as db:
                numbers = {said: known.shelf.number_of(db, block.bodies[said]) for said in {r[3] for r in part}}
                readings = [NewReading._make((d, s, at, numbers[n], block.abouts[a])) for d, s, at, n, a in part]
                heard = Settler(desk, db, known).hear(readings, row.id)
                store.keep_applied(db, row.id, len(part), heard.first, heard.added)
            size = _next_size(size, time.monotonic() - began, BRISK if desk.traffic.lively else CALM)
            time.sleep(0.001)  # whoever waits to write goes first
    with desk.database.write() as db:
        done = store.finish(db, row.id, desk.now())
        if noted:
            body = {
                "readings": done.readings, "devices": done.devices, "added": done.added, "form": done.form,
                "rejected": done.rejected,
            }  # fmt: skip
            actor = Actor(done.by, "technician", "import")
            record(desk, db, actor, "readings imported", "import", id_of("IM", row.id), body)


def _next_size(size: int, took: float, wanted: float) -> int:
    """How many readings the next transaction takes over, if one of `size` took so many seconds of those wanted."""
    fitting = int(size * wanted / max(took, 1e-6))
    return min(CHUNK, max(SMALL, min(fitting, 2 * size)))


# ------------------------------------------------------------------- dry run


def _try_out(desk: Desk, row: ImportRow, halt: Callable[[], bool]) -> None:
    """Take it over on a copy of the records, look at what changed, and throw the copy away."""
    with tempfile.TemporaryDirectory(dir=desk.database.path.parent) as folder:
        copy = desk.database.copy(Path(folder) / "doorstone.db")
        trial = Desk(copy, desk.clock, desk.policy)
        try:
            before = _standing(trial)
            ready = _file(desk, row.id, "ready")
            facts = _facts_changed(trial, told(read_ready(ready)))
            linked = _file(trial, row.id, "ready")
            linked.parent.mkdir(exist_ok=True)
            linked.hardlink_to(ready)
            _apply(trial, row, halt, noted=False)
            moves = _moves(before, _standing(trial))
            done = get_import(trial, id_of("IM", row.id)).row
        finally:
            copy.close()
    with desk.database.write() as db:
        if store.get(db, row.id) == get_import(desk, id_of("IM", row.id)).row:
            store.keep_changes(db, row.id, json.dumps({"moves": moves, "facts": facts}), done)
    _end(desk, row.id, "done", "Nothing was changed: it was a dry run")


def _standing(desk: Desk) -> dict[str, tuple[str, str, str]]:
    """Device -> platform, target release and state."""
    standing = {}
    for name, sheet in all_sheets(desk).items():
        out = [r.id for r in sheet.platform.releases if r.published <= desk.today()]
        release = out[-1] if out else sheet.platform.releases[0].id
        for row, found in find_devices(desk, sheet.platform, release, device_store.Filter()):
            standing[row.id] = (name, release, found.state)
    return standing


def _moves(
    before: Mapping[str, tuple[str, str, str]], after: Mapping[str, tuple[str, str, str]]
) -> list[dict[str, Any]]:
    """Devices whose state would change, at most 20 named of each kind; new ones come from nowhere."""
    moved: dict[tuple[str, str, str, str], list[str]] = {}
    for device, (platform, release, becomes) in sorted(after.items()):
        was = before[device][2] if device in before else ""
        if was != becomes:
            moved.setdefault((platform, release, was, becomes), []).append(device)
    return [
        {"platform": p, "release": r, "was": was, "becomes": becomes, "count": len(found), "devices": found[:20]}
        for (p, r, was, becomes), found in sorted(moved.items())
    ]


def _facts_changed(desk: Desk, found: Iterator[Told]) -> list[dict[str, Any]]:
    """Per fact: on how many devices the source would say otherwise than it said last, with one example."""
    counts: Counter[str] = Counter()
    examples: dict[str, dict[str, Any]] = {}
    shelf = Shelf()
    with desk.database.read() as db:
        for part in batches(found, CHUNK):
            held = device_store.records(db, {new.device for new in part})
            for new in part:
                words = shelf.words(db, heard_of(held[new.device])) if new.device in held else {}
                said = sorted(words.get(new.source, {}).items())
                newest = {name: (at, value) for at, one in said for name, value in one.facts.items()}
                for name, value in json.loads(new.body).get("facts", {}).items():
                    at, was = newest.get(name, ("", None))
                    if at and at <= new.taken_at and was != value:
                        counts[name] += 1
                        examples.setdefault(name, {"device": new.device, "was": was, "becomes": value})
    return [{"fact": name, "devices": n, **examples[name]} for name, n in counts.most_common(50)]


# ------------------------------------------------------------------ at once


def import_readings(desk: Desk, actor: Actor, text: str, given: ImportGiven) -> Import:
    """Import a text at once. Raises `BadInputError` with a trouble for each of the first hundred bad lines."""
    found = begin(desk, actor, given)
    if not found.ended:
        receive(desk, actor, found.id, io.BytesIO(text.encode("utf-8", "surrogatepass")))
        found = run(desk, found.id)
    if found.row.state == "refused":
        raise refusal(desk, found)
    return found


def refusal(desk: Desk, ended: Import) -> BadInputError:
    """What a refused import is told, line by line."""
    troubles = [
        Trouble(p.place if p.place.startswith("item ") else f"line {p.line}, {p.place}", p.message, p.mend)
        for p in import_problems(desk, ended.id)
    ]
    return BadInputError(ended.row.why, "Mend them and import again", troubles)


# ------------------------------------------------------------------- looking


def get_import(desk: Desk, name: str) -> Import:
    """Raises `MissingError`."""
    with desk.database.read() as db:
        row = store.get(db, number_of("IM", name))
    if row is None:
        raise MissingError(f"There is no import {name!r}", "See them with 'doorstone reading list'")
    return Import(name, row)


def list_imports(desk: Desk) -> list[Import]:
    """The last 50, newest first."""
    with desk.database.read() as db:
        return [Import(id_of("IM", row.id), row) for row in store.every(db)]


def import_problems(desk: Desk, name: str, after: int = 0, limit: int = 100) -> list[store.ProblemRow]:
    """The lines that were rejected, in order, those after number `after`; the first 10,000 are kept."""
    with desk.database.read() as db:
        return store.problems(db, get_import(desk, name).row.id, after, limit)


def resume(desk: Desk) -> list[str]:
    """What a stopped service left: imports to run again. One that has no file yet has come to nothing."""
    with desk.database.read() as db:
        rows = store.unfinished(db)
    left = []
    for row in rows:
        if row.state == "waiting":
            _end(desk, row.id, "cancelled", "The service stopped before the file had come")
        else:
            left.append(id_of("IM", row.id))
    return left
