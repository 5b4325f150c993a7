"""Exceptions in bulk: request what each of many devices needs, decide on many at once. All of it, or nothing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from doorstone.core.exceptions.batch import RequestGroup, group, to_request
from doorstone.core.exceptions.life import ExceptionState, Refusal
from doorstone.core.platforms.platform import Platform
from doorstone.store import ledger
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, ErrorEntry, RefusedError, StaleEditError
from doorstone.work.exceptions.decisions import decide
from doorstone.work.exceptions.requests import (
    MOST_DEVICES,
    ExceptionView,
    NewException,
    devices_asked,
    get_exception,
    request,
)
from doorstone.work.snapshot.sheets import need_release
from doorstone.work.snapshot.snapshot import Snapshot, snapshot

MOST_AT_ONCE = 500


@dataclass(frozen=True, slots=True)
class BatchView:
    """The requests that were made, and the devices for which none was, each with the reason."""

    made: tuple[ExceptionView, ...]
    refused: tuple[ErrorEntry, ...]


def request_each(context: Context, actor: Actor, asked: NewException) -> BatchView:
    """Request for each device exactly the checks that it needs, in as few exceptions as that takes.

    `requirements` of what is asked limit what is requested; without them, whatever a device fails. Devices that need
    or can have none are named with the reason. Raises `RefusedError` if there is nothing to request for any of them.
    """
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            return BatchView(tuple(get_exception(context, name) for name in before.split()), ())
        groups, refused = _plan(context, asked)
        if not groups:
            raise RefusedError("There is nothing to request for these devices", "See each reason", refused)
        alone = replace(actor, receipt=None)
        made = tuple(
            request(
                context, alone,
                replace(asked, requirements=one.requirements, devices=one.devices, selection="", go_on=False),
            )
            for one in groups
        )  # fmt: skip
        if actor.receipt is not None:
            names = " ".join(view.id for view in made)
            ledger.keep_receipt(db, actor.name, actor.receipt.key, actor.receipt.fingerprint, names, context.now())
    return BatchView(made, tuple(refused))


def devices_of(context: Context, asked: NewException) -> list[str]:
    """The devices of a request in bulk that it would really ask for."""
    groups, _ = _plan(context, asked)
    return [device for one in groups for device in one.devices]


def devices_named(context: Context, names: Sequence[str]) -> list[str]:
    """The devices of several exceptions. Raises `MissingError`."""
    return sorted({device for name in names for device in get_exception(context, name).row.devices})


def _plan(context: Context, asked: NewException) -> tuple[list[RequestGroup], list[ErrorEntry]]:
    now = snapshot(context)
    devices = devices_asked(context, now, asked)
    if not devices:
        raise BadInputError("No device is named", "Name devices or a saved selection")
    platform = now.one_platform(devices, "Request per platform")
    need_release(platform, asked.release)
    assessed = now.assessments(now.rows(devices), asked.release)
    named = _named(now, platform, asked.release, devices)
    wanted, refused = {}, []
    for device in devices:
        known = assessed.get(device) or now.assessment(device, asked.release)
        found = to_request(device, known, named.get(device, {}))
        if isinstance(found, frozenset) and asked.requirements:
            found = found & set(asked.requirements) or Refusal(
                device, "", "it needs none of these requirements excepted", "Leave it out"
            )
        if isinstance(found, frozenset):
            wanted[device] = found
        else:
            pointer = ", ".join(filter(None, (device, found.requirement)))
            refused.append(ErrorEntry(pointer, found.reason, found.hint, device))
    return group(wanted, MOST_DEVICES), refused


def _named(now: Snapshot, platform: Platform, release: str, devices: Sequence[str]) -> dict[str, Mapping[str, str]]:
    """Device -> requirement -> the exception that names it at the release already, in force or requested."""
    found: dict[str, Mapping[str, str]] = {}
    for device, held in now.held(devices).items():
        standing = (
            e for e in held
            if e.reaches(platform, release)
            and (e.state is ExceptionState.REQUESTED or (e.stands and e.in_force(now.today)))
        )  # fmt: skip
        found[device] = {name: e.id for e in standing for name in e.requirements}
    return found


def decide_many(
    context: Context, actor: Actor, wanted: Sequence[tuple[str, int]], move: str, note: str
) -> tuple[ExceptionView, ...]:
    """Make the same move on several exceptions, each as it was seen at its version. One that fails undoes all.

    Raises `RefusedError` that names each exception on which it may not be made.
    """
    if not 0 < len(wanted) <= MOST_AT_ONCE:
        raise BadInputError(f"{len(wanted)} exceptions at once", f"Name 1 to {MOST_AT_ONCE}")
    if len(wanted) == 1:
        name, version = wanted[0]
        return (decide(context, actor, name, move, note, version),)
    errors = []
    with context.database.write():
        for name, version in dict(wanted).items():
            try:
                decide(context, actor, name, move, note, version)
            except (RefusedError, StaleEditError) as error:
                errors.append(ErrorEntry(name, error.detail, error.hint))
                errors += [ErrorEntry(f"{name}, {one.pointer}", one.detail, one.hint) for one in error.errors]
        if errors:
            raise RefusedError("Nothing was decided", "Leave out or correct each named", errors)
    return tuple(get_exception(context, name) for name, _ in dict(wanted).items())
