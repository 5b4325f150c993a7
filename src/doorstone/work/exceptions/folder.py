"""The register as a folder of files: written out, compared with a reviewed one, and what differs asked for."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from datetime import date

from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.exceptions.folder import (
    FileCondition,
    FileTerms,
    FolderDeed,
    FolderDifference,
    compare_folder,
    renews,
)
from doorstone.core.exceptions.life import ENDED, ExceptionState
from doorstone.core.exceptions.requests import NewCondition, NewException, NewTerms
from doorstone.formats.exception_files import ExceptionFileError, read_exception, write_exception
from doorstone.store.exceptions import exceptions as store
from doorstone.store.exceptions.rows import ExceptionRow
from doorstone.work.context.actor import Actor
from doorstone.work.context.batch import all_or_none
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, ErrorEntry
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.exceptions import activity
from doorstone.work.exceptions.requests import edit, request, risk
from doorstone.work.snapshot.approvals import state_of
from doorstone.work.snapshot.snapshot import snapshot

MOST_FILES = 2_000


class Acknowledged(Struct, frozen=True):
    """The risk statement and the vendor's notices, word for word."""

    risk: str
    notices: tuple[str, ...] = ()


class FolderDone(Struct, frozen=True):
    """What was done for a file, and the exception concerned."""

    file: str
    exception: str
    deed: FolderDeed


def folder_files(context: Context, *, every: bool = False) -> dict[str, str]:
    """A file for each exception that is requested or approved, or for every one: name -> text."""
    return {
        f"{name}.toml": write_exception(terms)
        for name, terms in _register(context).items()
        if every or ExceptionState(terms.state) not in ENDED
    }


def _register(context: Context) -> dict[str, FileTerms]:
    with context.database.read() as db:
        return {id_of("EX", row.id): _terms(row, context.today()) for row in store.every(db)}


def _terms(row: ExceptionRow, today: date) -> FileTerms:
    conditions = tuple(
        FileCondition(
            "" if c.fact_condition else c.text, c.fact_condition, date.fromisoformat(c.due_on) if c.due_on else None,
            c.every_days,
        )
        for c in row.conditions
    )  # fmt: skip
    return FileTerms(
        id_of("EX", row.id),
        row.version,
        state_of(row, today),
        row.platform,
        row.release,
        bool(row.up_to),
        tuple(sorted(row.requirements)),
        tuple(sorted(row.devices)),
        row.reason,
        row.owner,
        date.fromisoformat(row.start_on),
        date.fromisoformat(row.expires_on),
        date.fromisoformat(row.review_on),
        conditions,
    )


def compare(context: Context, files: Mapping[str, str]) -> list[FolderDifference]:
    """How a reviewed folder differs from the register. Raises `BadInputError` with every place that cannot be read."""
    return compare_folder(_register(context), _read(files))


def _read(files: Mapping[str, str]) -> dict[str, FileTerms]:
    if len(files) > MOST_FILES:
        raise BadInputError(f"{len(files):,} files in one folder", f"Send up to {MOST_FILES:,}")
    found, errors, named = {}, [], dict[str, str]()
    for name in sorted(files):
        try:
            terms = read_exception(files[name])
        except ExceptionFileError as error:
            errors += [
                ErrorEntry(f"{name}, line {p.line}, {p.place}" if p.line else f"{name}, {p.place}", p.message, p.hint)
                for p in error.problems
            ]
            continue
        if terms.exception and terms.exception in named:
            words = f"{terms.exception} stands in {named[terms.exception]} already"
            errors.append(ErrorEntry(f"{name}, exception", words, "Keep one of the two files"))
        named.setdefault(terms.exception, name)
        found[name] = terms
    if errors:
        raise BadInputError("The folder cannot be read", "Correct each place", errors)
    return found


def request_from_folder(
    context: Context, actor: Actor, files: Mapping[str, str], reference: str, given: Acknowledged
) -> list[FolderDone]:
    """Request what differs, each with a comment that names the revision and the file: all of it, or nothing.

    What a person has to do by hand is left alone. Raises `BadInputError` with an entry for each file that cannot be
    used.
    """
    if not 2 <= len(reference.strip()) <= 200 or not reference.isprintable():
        raise BadInputError("The reference cannot be used", "Name the revision that the folder is of")
    wanted = _read(files)
    with context.database.write():
        register = _register(context)
        found = [one for one in compare_folder(register, wanted) if FolderDeed.BY_HAND not in one.deeds]
        placed = [(one.file, (one, deed)) for one in found for deed in one.deeds]

        def make(item: tuple[FolderDifference, FolderDeed]) -> FolderDone:
            one, deed = item
            name = _do(context, actor, deed, wanted[one.file], register.get(one.exception), given)
            digest = hashlib.sha256(files[one.file].encode()).hexdigest()
            activity.comment(context, actor, name, f"From {reference.strip()}: {one.file}, SHA-256 {digest}")
            return FolderDone(one.file, name, deed)

        return all_or_none(context, placed, make)


def exceptions_of(context: Context, files: Mapping[str, str]) -> list[str]:
    """The devices that the files name, and those of the exceptions that they name."""
    try:
        wanted = _read(files)
    except BadInputError:
        return []
    names = {device for terms in wanted.values() for device in terms.devices}
    with context.database.read() as db:
        for terms in wanted.values():
            row = store.get(db, number_of("EX", terms.exception)) if terms.exception else None
            names |= set(row.devices) if row else set()
    return [row.id for row in snapshot(context).rows(names)]


def _do(
    context: Context, actor: Actor, deed: FolderDeed, terms: FileTerms, held: FileTerms | None, given: Acknowledged
) -> str:
    """Do what one difference asks for, as a person would. Returns the exception concerned."""
    plain = replace(actor, receipt=None)
    if deed is FolderDeed.EDIT and held is not None:
        return edit(context, plain, held.exception, held.version, _new_terms(terms)).id
    if deed is FolderDeed.TRANSFER and held is not None:
        return activity.transfer(context, plain, held.exception, None, terms.owner, "As the reviewed file has it.").id
    if deed is FolderDeed.REVIEW and held is not None:
        note = "As the reviewed file has it."
        return activity.review(context, plain, held.exception, None, terms.review, note).id
    if held is not None:
        terms = replace(terms, start=max(terms.start, context.today()))
    return request(context, plain, _new_exception(context, terms, held, given)).id


def _new_exception(context: Context, terms: FileTerms, held: FileTerms | None, given: Acknowledged) -> NewException:
    sheet = snapshot(context).sheets.get(terms.platform)
    if sheet is None:
        raise BadInputError(f"There is no platform {terms.platform!r}", "Load its sheet first")
    known = risk(context, sheet.platform, terms.release)
    old = held.exception if held is not None and renews(held, terms) else ""
    return NewException(
        terms.release, terms.up_to, terms.requirements, terms.devices, given.risk, _new_terms(terms),
        known.notice if known.notice in given.notices else "", renews=old, platform=terms.platform,
    )  # fmt: skip


def _new_terms(terms: FileTerms) -> NewTerms:
    conditions: Sequence[NewCondition] = [
        NewCondition(c.text, c.fact_condition, c.due_on if c.due_on and c.due_on >= terms.start else None, c.every_days)
        for c in terms.conditions
    ]
    return NewTerms(terms.reason, tuple(conditions), terms.owner, terms.start, terms.expires, terms.review)
