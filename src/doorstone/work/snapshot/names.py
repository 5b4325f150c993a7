"""Names as people type them: ids in any case become the ids on record, and unknown values of filters are refused.

Device ids that differ only in case, outer spaces or Unicode form name one device: the spelling that came first.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Mapping
from typing import Any

from rapidfuzz import process
from rapidfuzz.utils import default_process

from doorstone.core.devices.life import Life
from doorstone.core.devices.names import name_key
from doorstone.core.exceptions.life import ExceptionState
from doorstone.store import ledger as ledger_store
from doorstone.store import people as people_store
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import names as name_store
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError
from doorstone.work.snapshot.sheets import all_sheets

OBJECT_ID = re.compile(r"[A-Za-z]{2}-\d{1,11}")
NEAR = 70.0  # of 100: how alike a suggested value has to be


def device_ids(context: Context, names: Iterable[str]) -> dict[str, str]:
    """Name -> the id of the device that it names, in any case. A name of no device maps to itself."""
    with context.database.read() as db:
        return name_store.ids_of(db, list(names))


def in_path(context: Context, path: Mapping[str, str]) -> dict[str, str]:
    """The parts of a path, with each id spelt as on record."""
    return {name: _id(context, name, value) for name, value in path.items()}


def _id(context: Context, kind: str, value: str) -> str:
    if kind == "device":
        return device_ids(context, [value])[value]
    if kind == "person":
        return _in_any_case(value, _people(context))
    if kind == "platform":
        return _in_any_case(value, all_sheets(context))
    return value.upper() if OBJECT_ID.fullmatch(value) else value


def _in_any_case(value: str, known: Collection[str]) -> str:
    if value in known:
        return value
    return next((name for name in known if name_key(name) == name_key(value)), value)


def given(context: Context, values: Mapping[str, Any]) -> dict[str, Any]:
    """What has to change in what a call gives so that ids are as on record: `device`, `devices` and the like."""
    changed: dict[str, Any] = {}
    for name, value in values.items():
        found: Any = value
        if name in ("device", "person", "platform", "owner") and isinstance(value, str) and value:
            found = _id(context, "person" if name == "owner" else name, value)
        elif name == "devices" and isinstance(value, list) and all(isinstance(one, str) for one in value):
            known = device_ids(context, value)
            found = list(dict.fromkeys(known[one] for one in value))
        elif name in ("exception", "kit", "media", "object", "other", "renews", "corrects") and isinstance(value, str):
            found = _id(context, "object", value)
        if found != value:
            changed[name] = found
    return changed


# ------------------------------------------------------------------ values of filters


def check_known(context: Context, asked: Mapping[str, Any]) -> None:
    """Raise `MissingError` or `BadInputError` for the value of a filter that nothing on record has.

    The error names the value, what is near it, and how to list what there is.
    """
    for name, check in _CHECKS.items():
        values = asked.get(name)
        for value in values if isinstance(values, list) else [values]:
            if isinstance(value, str) and value:
                check(context, value)


def _check_device(context: Context, device: str) -> None:
    with context.database.read() as db:
        if device_store.records(db, [device]):
            return
        near = name_store.near(db, device)
    raise MissingError(f"Device {device!r} does not exist", _hint(near, "List devices with `doorstone device list`"))


def _check_owner(context: Context, person: str) -> None:
    known = _people(context)
    if person not in known:
        hint = _hint(nearest(person, known), "List people with `doorstone person list`")
        raise MissingError(f"There is no person {person!r}", hint)


def _check_platform(context: Context, platform: str) -> None:
    known = all_sheets(context)
    if platform not in known:
        hint = _hint(nearest(platform, known), f"Use one of: {', '.join(known) or 'none is loaded yet'}")
        raise MissingError(f"There is no platform {platform!r}", hint)


def _check_object(context: Context, name: str) -> None:
    with context.database.read() as db:
        if not ledger_store.speaks_of(db, name):
            raise MissingError(f"The ledger has no entry about {name!r}", "List entries with `doorstone ledger list`")


def _check_life(context: Context, life: str) -> None:
    _one_of(life, [one.value for one in Life if one is not Life.IN_SERVICE], "lifecycle of a device out of service")


def _column(column: str, title: str) -> Callable[[Context, str], None]:
    def check(context: Context, value: str) -> None:
        with context.database.read() as db:
            if value == "no site" or device_store.has(db, column, value):
                return
            known = context.cached(
                ("values", column), context.stamp().devices, lambda: device_store.values_of(db, column)
            )
        listed = ", ".join(known[:12]) + (" and more" if len(known) > 12 else "")
        hint = _hint(nearest(value, known), f"Use one of: {listed}" if known else "No device has any")
        raise MissingError(f"No device has the {title} {value!r}", hint)

    return check


def check_exception_state(state: str) -> None:
    """Raise `BadInputError` for what is not a state of an exception."""
    _one_of(state, [one.value for one in ExceptionState], "state of an exception")


def _one_of(value: str, known: Collection[str], title: str) -> None:
    if value not in known:
        raise BadInputError(
            f"{value!r} is not a {title}", _hint(nearest(value, known), f"Use one of: {', '.join(known)}")
        )


_CHECKS: Mapping[str, Callable[[Context, str], None]] = {
    "device": _check_device,
    "owner": _check_owner,
    "platform": _check_platform,
    "object": _check_object,
    "life": _check_life,
    "site": _column("site", "site"),
    "role": _column("role", "role"),
    "model": _column("model", "model"),
}


def _people(context: Context) -> list[str]:
    with context.database.read() as db:
        return [row.name for row in people_store.every(db)]


def nearest(value: str, known: Iterable[str]) -> str:
    """The known value most like this one; empty if none is near."""
    found = process.extractOne(value, list(known), processor=default_process, score_cutoff=NEAR)
    return str(found[0]) if found else ""


def _hint(near: str, otherwise: str) -> str:
    return f"Did you mean {near}? {otherwise}" if near else otherwise
