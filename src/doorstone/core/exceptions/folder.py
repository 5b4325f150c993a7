"""Exceptions as files: how a reviewed folder differs from the register, and what would be asked for because of it.

Files never decide anything: they lead to requests, edits of requests, transfers and reviews, each as a person would
make it. In: the register and the files as the same terms. Out: a difference for each file or exception that differs.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import date
from enum import StrEnum
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

from doorstone.core.exceptions.life import ENDED, ExceptionState


class FolderDeed(StrEnum):
    """What to do about a difference."""

    REQUEST = "request"
    EDIT = "edit"
    TRANSFER = "transfer"
    REVIEW = "review"
    REQUEST_ANEW = "request-anew"
    BY_HAND = "by-hand"


class FileCondition(Struct, frozen=True):
    """A condition as a file has it: words, or data of a condition on facts."""

    text: str = ""
    fact_condition: Mapping[str, Any] | None = None
    due_on: date | None = None
    every_days: int | None = None


class FileTerms(Struct, frozen=True):
    """An exception as a file has it. `exception` is empty for one that is yet to be asked for."""

    exception: str
    version: int
    state: str
    platform: str
    release: str
    up_to: bool
    requirements: tuple[str, ...]
    devices: tuple[str, ...]
    reason: str
    owner: str
    start: date
    expires: date
    review: date
    conditions: tuple[FileCondition, ...] = ()


SCOPE = frozenset({"platform", "release", "up_to", "requirements", "devices"})
_NOT_COMPARED = frozenset({"exception", "version"})


class FieldChange(Struct, frozen=True):
    """One field that differs: in the register, and in the file."""

    name: str
    in_register: str
    in_file: str


class FolderDifference(Struct, frozen=True):
    """How one file differs, and what follows. Where a person has to act, `hint` says how. `file` is empty if it is
    missing.
    """

    file: str
    exception: str
    deeds: tuple[FolderDeed, ...]
    changes: tuple[FieldChange, ...]
    hint: str = ""


def compare_folder(register: Mapping[str, FileTerms], files: Mapping[str, FileTerms]) -> list[FolderDifference]:
    """Every difference, by file; then the open exceptions of the register that no file has."""
    found = [one for name in sorted(files) for one in _compare(name, files[name], register)]
    written = {name for terms in files.values() for name in (terms.exception, _asked(terms, register))}
    for name in sorted(register):
        if name not in written and ExceptionState(register[name].state) not in ENDED:
            hint = "Write the folder anew, or have it withdrawn or closed by whoever may"
            found.append(FolderDifference("", name, (FolderDeed.BY_HAND,), (), hint))
    return found


def _compare(file: str, terms: FileTerms, register: Mapping[str, FileTerms]) -> Iterator[FolderDifference]:
    asked = _asked(terms, register)
    if not terms.exception:
        if not asked:
            yield FolderDifference(file, "", (FolderDeed.REQUEST,), ())
        return
    held = register.get(terms.exception)
    if held is None:
        hint = "Leave the key exception out to ask for a new one"
        yield FolderDifference(file, terms.exception, (FolderDeed.BY_HAND,), (), hint)
        return
    changes = tuple(_changes(held, terms))
    if not changes:
        return
    if terms.version != held.version:
        hint = f"The register is at version {held.version}, the file at {terms.version}: write the folder anew"
        yield FolderDifference(file, terms.exception, (FolderDeed.BY_HAND,), changes, hint)
        return
    deeds, hint = _deeds(ExceptionState(held.state), {change.name for change in changes})
    if deeds == (FolderDeed.REQUEST_ANEW,) and asked:
        deeds, hint = (FolderDeed.BY_HAND,), f"{asked} asks for it already and waits for a decision"
    yield FolderDifference(file, terms.exception, deeds, changes, hint)


def _asked(terms: FileTerms, register: Mapping[str, FileTerms]) -> str:
    """The open exception that this file asks for already, its first day and conditions aside. Empty if none."""
    wanted = _gist(terms)
    return next(
        (
            name
            for name, held in sorted(register.items())
            if name != terms.exception and ExceptionState(held.state) not in ENDED and _gist(held) == wanted
        ),
        "",
    )


def _gist(terms: FileTerms) -> tuple[object, ...]:
    return (
        terms.platform, terms.release, terms.up_to, terms.requirements, terms.devices, terms.reason, terms.owner,
        terms.expires, terms.review,
    )  # fmt: skip


def _deeds(state: ExceptionState, changed: set[str]) -> tuple[tuple[FolderDeed, ...], str]:
    """What follows from the fields that differ, and a hint for what a file cannot do."""
    if "state" in changed:
        return (FolderDeed.BY_HAND,), "No file decides: approve, decline, withdraw, revoke or close it as yourself"
    if state in ENDED:
        return (FolderDeed.BY_HAND,), "It has ended: leave the key exception out to ask for a new one"
    if state is ExceptionState.REQUESTED:
        if changed & SCOPE:
            return (FolderDeed.BY_HAND,), "Withdraw it, and leave the key exception out to ask for a new one"
        return (FolderDeed.EDIT,), ""
    if changed <= {"owner", "review"}:
        of = {"review": FolderDeed.REVIEW, "owner": FolderDeed.TRANSFER}  # the owner reviews before it changes hands
        return tuple(deed for name, deed in of.items() if name in changed), ""
    return (FolderDeed.REQUEST_ANEW,), ""


def _changes(held: FileTerms, terms: FileTerms) -> Iterator[FieldChange]:
    before = asdict(held)
    for name, after in asdict(terms).items():
        if name not in _NOT_COMPARED and before[name] != after:
            yield FieldChange(name, _words(before[name]), _words(after))


def _words(value: object) -> str:
    if isinstance(value, tuple):
        return "; ".join(_condition(one) if isinstance(one, FileCondition) else str(one) for one in value) or "none"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return str(value)


def _condition(one: FileCondition) -> str:
    words = one.text or str(dict(one.fact_condition or {}))
    due = f", due {one.due_on}" if one.due_on else ""
    return words + due + (f", every {one.every_days} days" if one.every_days else "")


def renews(held: FileTerms, terms: FileTerms) -> bool:
    """Whether what is asked for anew renews what is held: the same platform, and no device that it does not name."""
    return held.platform == terms.platform and set(terms.devices) <= set(held.devices)
