"""Exceptions in bulk: request what each of many devices needs, decide on many at once. All of it, or nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import date, timedelta

from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.exceptions.batch import RequestGroup, requests_for
from doorstone.core.exceptions.life import ExceptionState
from doorstone.core.exceptions.requests import NewCondition, NewException, NewTerms
from doorstone.core.platforms.platform import Platform
from doorstone.store import ledger
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, ErrorEntry, RefusedError, StaleEditError
from doorstone.work.exceptions.activity import transfer
from doorstone.work.exceptions.decisions import decide
from doorstone.work.exceptions.requests import (
    MOST_DEVICES,
    ExceptionView,
    get_exception,
    named_devices,
    request,
    risk,
)
from doorstone.work.snapshot.requested import refusal_entries, requested_devices
from doorstone.work.snapshot.sheets import need_release
from doorstone.work.snapshot.snapshot import Snapshot, snapshot

MOST_AT_ONCE = 500


class BatchView(Struct, frozen=True):
    """The requests that were made, and the devices for which none was, each with the reason."""

    made: tuple[ExceptionView, ...]
    refused: tuple[ErrorEntry, ...]


def request_each(context: Context, actor: Actor, new: NewException) -> BatchView:
    """Request for each device exactly the checks that it needs, in as few exceptions as that takes.

    `requirements` of what is asked limit what is requested; without them, whatever a device fails. Devices that need
    or can have none are named with the reason. Raises `RefusedError` if there is nothing to request for any of them.
    """
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            ids = before.split()
            _, refused = _plan(context, new, besides=frozenset(ids))
            return BatchView(tuple(get_exception(context, name) for name in ids), tuple(refused))
        groups, refused = _plan(context, new)
        if not groups:
            raise RefusedError("There is nothing to request for these devices", "See each reason", refused)
        alone = replace(actor, receipt=None)
        made = tuple(
            request(
                context, alone,
                replace(new, requirements=one.requirements, devices=one.devices, selection="", go_on=False),
            )
            for one in groups
        )  # fmt: skip
        if actor.receipt is not None:
            names = " ".join(view.id for view in made)
            ledger.keep_receipt(db, actor.name, actor.receipt.key, actor.receipt.fingerprint, names, context.now())
    return BatchView(made, tuple(refused))


def devices_of(context: Context, new: NewException) -> list[str]:
    """The devices of a request in bulk that it would really ask for."""
    groups, _ = _plan(context, new)
    return [device for one in groups for device in one.devices]


def devices_named(context: Context, names: Sequence[str]) -> list[str]:
    """The devices of several exceptions. Raises `MissingError`."""
    return sorted({device for name in names for device in get_exception(context, name).row.devices})


def _plan(
    context: Context, new: NewException, besides: frozenset[str] = frozenset()
) -> tuple[list[RequestGroup], list[ErrorEntry]]:
    now = snapshot(context)
    devices = named_devices(context, now, new)
    if not devices:
        raise BadInputError("No device is named", "Name devices or a saved selection")
    platform = now.one_platform(devices, "Request per platform")
    need_release(platform, new.release)
    named = _named(now, platform, new.release, devices, besides)
    gathered = requested_devices(now, new.release, devices)
    groups, refused = requests_for(gathered, named, new.requirements, MOST_DEVICES)
    return groups, refusal_entries(refused)


def _named(
    now: Snapshot, platform: Platform, release: str, devices: Sequence[str], besides: frozenset[str]
) -> dict[str, Mapping[str, str]]:
    """Device -> requirement -> the exception, but for those `besides`, that names it already: in force or requested."""
    found: dict[str, Mapping[str, str]] = {}
    for device, held in now.held(devices).items():
        reaching = [e for e in held if e.reaches(platform, release) and e.id not in besides]
        waits = [e for e in reaching if e.state is ExceptionState.REQUESTED and now.today <= e.expiry]
        standing = waits + [e for e in reaching if e.permits(platform, release, now.today)]
        found[device] = {name: e.id for e in standing for name in e.requirements}
    return found


def decide_many(
    context: Context, actor: Actor, wanted: Sequence[tuple[str, int]], move: str, note: str
) -> tuple[ExceptionView, ...]:
    """Make the same move on several exceptions, each as it was seen at its version. One that fails undoes all.

    Raises `RefusedError` that names each exception on which it may not be made.
    """
    seen = dict(wanted)
    return _all_or_none(context, seen, lambda name: decide(context, actor, name, move, note, seen[name]))


def transfer_many(
    context: Context, actor: Actor, wanted: Sequence[tuple[str, int]], owner: str, note: str
) -> tuple[ExceptionView, ...]:
    """Make somebody else answer for several exceptions: all of them, or none. Raises as `decide_many` does."""
    seen = dict(wanted)
    return _all_or_none(context, seen, lambda name: transfer(context, actor, name, seen[name], owner, note))


class Renewal(Struct, frozen=True):
    """How several exceptions are renewed. `reason` and `review_on` are those of each, if not given."""

    expires_on: date
    review_on: date | None
    reason: str
    risk_acknowledged: str
    notices_acknowledged: tuple[str, ...]


def renew_many(context: Context, actor: Actor, names: Sequence[str], how: Renewal) -> BatchView:
    """Request a successor of each exception with its terms, from the day after its last: all of them, or none.

    Devices that no longer need what it permits are left out and named. Raises as `decide_many` does.
    """
    with context.database.write() as db:
        if before := object_made_before(db, actor):
            return BatchView(tuple(get_exception(context, name) for name in before.split()), ())
        alone = replace(actor, receipt=None)
        made = _all_or_none(context, names, lambda name: request(context, alone, _successor(context, name, how)))
        if actor.receipt is not None:
            ids = " ".join(view.id for view in made)
            ledger.keep_receipt(db, actor.name, actor.receipt.key, actor.receipt.fingerprint, ids, context.now())
    return BatchView(made, tuple(entry for view in made for entry in view.refused))


def _successor(context: Context, name: str, how: Renewal) -> NewException:
    row = get_exception(context, name).row
    start = max(date.fromisoformat(row.expires_on) + timedelta(days=1), context.today())
    conditions = tuple(
        NewCondition(one.text if one.fact_condition is None else "", one.fact_condition, None, one.every_days)
        for one in row.conditions
    )
    half = start + max(timedelta(0), how.expires_on - start) // 2
    terms = NewTerms(how.reason or row.reason, conditions, row.owner, start, how.expires_on, how.review_on or half)
    platform = snapshot(context).sheets[row.platform].platform
    notice = risk(context, platform, row.release).notice
    return NewException(
        row.release, bool(row.up_to), tuple(row.requirements), tuple(row.devices), how.risk_acknowledged, terms,
        notice if notice in how.notices_acknowledged else "", go_on=True, renews=name,
    )  # fmt: skip


def _all_or_none(
    context: Context, names: Iterable[str], make: Callable[[str], ExceptionView]
) -> tuple[ExceptionView, ...]:
    """Do the same to each exception in one transaction; if one cannot have it, none has, and each such is named."""
    wanted = list(dict.fromkeys(names))
    if not 0 < len(wanted) <= MOST_AT_ONCE:
        raise BadInputError(f"{len(wanted)} exceptions at once", f"Name 1 to {MOST_AT_ONCE}")
    if len(wanted) == 1:
        return (make(wanted[0]),)
    errors, made = [], []
    with context.database.write():
        for name in wanted:
            try:
                made.append(make(name))
            except (BadInputError, RefusedError, StaleEditError) as error:
                errors.append(ErrorEntry(name, error.detail, error.hint))
                errors += [ErrorEntry(f"{name}, {one.pointer}", one.detail, one.hint) for one in error.errors]
        if errors:
            raise RefusedError("Nothing was changed", "Leave out or correct each named", errors)
    return tuple(made)
