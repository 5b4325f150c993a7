"""Devices: the list with states and marks, one device with its facts, and which overrides would do for it."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from datetime import date, datetime
from typing import NamedTuple

from msgspec import Struct

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.exceptions.uncovered import Uncovered
from doorstone.core.facts import Candidate, FactSpec, Verdict, View
from doorstone.core.forecast.course import Course, course
from doorstone.core.forecast.device_forecast import Forecast
from doorstone.core.platforms.platform import target_release
from doorstone.core.sorting.assessment import State
from doorstone.core.sorting.counts import Sorted
from doorstone.store.devices import devices as store
from doorstone.store.devices import lives as life_store
from doorstone.store.devices.devices import DeviceRow, ReadingRow
from doorstone.store.devices.lives import LifeRow
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError
from doorstone.work.snapshot.progress import progress_of
from doorstone.work.snapshot.sheets import check_requirement, get_sheet, need_release
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.snapshot.uncovered import lacking_device

CURSOR_TIME = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d")


class DeviceLine(Struct, frozen=True):
    """One device in a list. `marks` maps requirement -> mark at the target release, in the sheet's order."""

    id: str
    name: str
    site: str
    role: str
    critical: bool
    platform: str
    model: str
    release: str
    edition: str
    state: str
    marks: Mapping[str, str]
    runway: date | None


class DevicePage(Struct, frozen=True):
    platform: str
    release: str
    total: int
    lines: tuple[DeviceLine, ...]
    next: str | None
    sites: tuple[str, ...]
    roles: tuple[str, ...]
    models: tuple[str, ...]


class FactWord(Struct, frozen=True):
    """One source's word on a fact, as people read it."""

    value: str
    source: str
    taken_at: datetime


class FactLine(Struct, frozen=True):
    """One fact of a device. `rivals` disagree with it; `aged` says that its only reading is too old to count."""

    name: str
    title: str
    believed: FactWord
    rivals: tuple[FactWord, ...]
    lasting: bool
    aged: bool


class Device(Struct, frozen=True):
    device: DeviceLine
    life: LifeRow | None
    target: str
    releases: tuple[str, ...]
    facts: tuple[FactLine, ...]
    verdicts: tuple[Verdict, ...]
    course: Course | None
    uncovered: Uncovered | None = None


NO_STATE = Sorted("", {})
"""A device that is not in service has no state: nothing is planned for it."""


def list_devices(
    context: Context, platform_id: str, release: str, where: DeviceFilter, after: str = "", limit: int = 50
) -> DevicePage:
    """A page of the platform's devices against a release, by id, those after `after`."""
    platform = get_sheet(context, platform_id).platform
    release = release or target_release(platform, context.today())
    need_release(platform, release)
    if where.state and where.state not in set(State):
        raise BadInputError(f"{where.state!r} is not a state", f"Use one of {', '.join(State)}")
    check_requirement(platform, release, where.requirement)
    now = snapshot(context)
    rows = now.find(platform, release, where, after, limit + 1)
    ahead = now.forecasts([row for row, _ in rows[:limit]])
    page = [_line(row, found, ahead[row.id]) for row, found in rows[:limit]]
    places = now.places(platform)
    return DevicePage(
        platform_id,
        release,
        len(rows) if not after and len(rows) <= limit else now.total(platform, release, where),
        tuple(page),
        page[-1].id if len(rows) > limit else None,
        places.sites,
        places.roles,
        places.models,
    )


def _line(row: DeviceRow, found: Sorted, ahead: Forecast | None) -> DeviceLine:
    return DeviceLine(
        row.id,
        row.name,
        row.site,
        row.role,
        row.critical,
        row.platform,
        row.model,
        row.running_release,
        row.edition,
        found.state,
        found.marks,
        ahead.technical.runway if ahead else None,
    )


def get_device(context: Context, device: str, release: str = "") -> Device:
    """One device with every fact and its course towards `release`. Raises `MissingError`."""
    now = snapshot(context)
    row = now.device(device)
    platform = now.need_sheet(device).platform
    release = release or target_release(platform, context.today())
    need_release(platform, release)
    found = now.stands(row, platform, release)
    view = now.view(device)
    facts = [_fact(spec, view) for name, spec in now.specs.items() if name in view.facts or name in view.aged]
    ahead = now.forecasts([row])[device]
    with context.database.read() as db:
        last = life_store.last(db, [device])
        lacking = lacking_device(db, now, device) if row.in_service else None
    return Device(
        _line(row, found, ahead) if row.in_service else _line(row, NO_STATE, None),
        last.get(device),
        release,
        tuple(r.id for r in platform.releases),
        tuple(facts),
        tuple(sorted(view.verdicts, key=lambda v: (v.taken_at, v.source, v.requirement), reverse=True)),
        course(release, ahead, context.today(), context.policy.stay_days, progress_of(now, device))
        if ahead and row.in_service
        else None,
        lacking.found if lacking is not None else None,
    )


class ReadingPage(NamedTuple):
    """Readings of a device, newest first, and the cursor of the earlier ones; None if there are none."""

    readings: list[ReadingRow]
    next: str | None


def device_readings(context: Context, device: str, cursor: str = "", limit: int = 50) -> ReadingPage:
    """The readings of a device, newest first, those after `cursor`. Raises `MissingError`, `BadInputError`."""
    snapshot(context).device(device)
    before = None
    if cursor:
        taken_at, _, source = cursor.partition(",")
        if not (source and CURSOR_TIME.fullmatch(taken_at)):
            raise BadInputError(f"{cursor!r} is no cursor of readings", "Give `next` of the page before, as it came")
        before = taken_at, source
    with context.database.read() as db:
        found = store.readings(db, device, limit + 1, before)
    last = found[limit - 1] if len(found) > limit else None
    return ReadingPage(found[:limit], f"{last.taken_at},{last.source}" if last is not None else None)


def _fact(spec: FactSpec, view: View) -> FactLine:
    settled = view.facts.get(spec.name)
    if settled is None:
        return FactLine(spec.name, spec.title, _word(spec, view.aged[spec.name]), (), spec.lasting, True)
    rivals = tuple(_word(spec, rival) for rival in settled.rivals) if settled.rivals else ()
    return FactLine(spec.name, spec.title, _word(spec, settled.believed), rivals, spec.lasting, False)


def _word(spec: FactSpec, one: Candidate) -> FactWord:
    return FactWord(spec.show(one.value), one.source, one.taken_at)


def sites_of(context: Context, names: Iterable[str]) -> set[str]:
    """The sites at which these devices stand. Raises `MissingError`."""
    now = snapshot(context)
    return {now.device(name).site for name in names}
