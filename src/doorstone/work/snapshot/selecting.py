"""Which devices a filter or a saved selection chooses, counted by profile."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator

from msgspec import Struct

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.platforms.platform import Platform, target_release
from doorstone.core.sorting.assessment import State
from doorstone.core.sorting.counts import Sorted
from doorstone.store.devices import selections as store
from doorstone.store.devices.devices import DeviceRow
from doorstone.store.devices.profiles import ProfileCount
from doorstone.store.devices.selections import SelectionRow
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError
from doorstone.work.snapshot.sheets import by_size, check_requirement, get_sheet, need_release
from doorstone.work.snapshot.snapshot import Snapshot, snapshot
from doorstone.work.snapshot.standings import standings


class SelectedDevices(Struct, frozen=True):
    """What is looked at: a platform, a release, and which of its devices."""

    platform: Platform
    release: str
    where: DeviceFilter
    selection: str


class SelectionCase(Struct, frozen=True):
    """So many devices that are alike: one profile, and the same requirements excepted today.

    `named` are the devices themselves where exceptions name something on them, else empty.
    """

    profile: int
    excepted: frozenset[str]
    devices: int
    named: tuple[str, ...] = ()


def choose_devices(
    context: Context, platform_id: str, release: str, where: DeviceFilter, selection: str = ""
) -> SelectedDevices:
    """A filter, on top of a saved selection if one is named. Raises `MissingError` or `BadInputError`."""
    platform = get_sheet(context, platform_id).platform
    if selection:
        saved = get_selection(context, selection)
        if saved.platform != platform_id:
            raise BadInputError(f"{selection!r} is a selection of {saved.platform}", "Choose that platform")
        where = where.on_top_of(saved.chosen)
        release = release or saved.release
    release = release or target_release(platform, context.today())
    need_release(platform, release)
    check_requirement(platform, release, where.requirement)
    if where.state and where.state not in set(State):
        raise BadInputError(f"{where.state!r} is not a state", f"Use one of {', '.join(State)}")
    return SelectedDevices(platform, release, where, selection)


def counts(
    context: Context, chosen: SelectedDevices, *, by_site: bool = False, by_role: bool = False
) -> list[ProfileCount]:
    """How many of the chosen devices are of each profile; one by one only if words are looked for.

    Sites and roles are added up, and left empty, unless they are told apart.
    """
    if not chosen.where.words:
        now = snapshot(context)
        return now.counts(chosen.platform, chosen.release, chosen.where, by_site=by_site, by_role=by_role)
    return [
        ProfileCount(row.profile or 0, row.site, row.role, row.model, row.running_release, 1, found.state, found.marks)
        for row, found in snapshot(context).find(chosen.platform, chosen.release, chosen.where)
    ]


def devices_of(context: Context, platform_id: str, release: str, where: DeviceFilter, selection: str = "") -> list[str]:
    """The devices that a filter and a saved selection choose, by id. Raises `MissingError` or `BadInputError`."""
    platform_id = platform_id or (get_selection(context, selection).platform if selection else "")
    chosen = choose_devices(context, platform_id or by_size(context)[0][0].platform.id, release, where, selection)
    return [row.id for row, _ in snapshot(context).find(chosen.platform, chosen.release, chosen.where)]


def cases(context: Context, chosen: SelectedDevices, found: list[ProfileCount]) -> list[SelectionCase]:
    """The chosen devices by profile; those with an exception in force are apart from their profile's others."""
    now = snapshot(context)
    excepted = now.excepted(chosen.platform, chosen.release)
    left = Counter({count.profile: 0 for count in found})
    for count in found:
        left[count.profile] += count.devices
    apart: dict[tuple[int, frozenset[str]], list[str]] = {}
    for row in among(now, chosen, now.rows_of_excepted(excepted)):
        left[row.profile or 0] -= 1
        apart.setdefault((row.profile or 0, excepted[row.id]), []).append(row.id)
    plain = [SelectionCase(profile, frozenset(), n) for profile, n in left.items() if n > 0]
    return plain + [SelectionCase(profile, names, len(ids), tuple(ids)) for (profile, names), ids in apart.items()]


def among(now: Snapshot, chosen: SelectedDevices, rows: Iterable[DeviceRow]) -> Iterator[DeviceRow]:
    """The devices among these that the filter chooses."""
    plain, where = standings(now.context, chosen.platform, chosen.release).of, chosen.where
    raised = now.raised(chosen.platform, chosen.release)
    known: dict[int, Sorted | None] = {}
    for row in rows:
        profile = row.profile or 0
        if profile not in known:
            known[profile] = plain.get(profile)
        found = raised[row.id].stands if row.id in raised else known[profile]
        if found is None or not where.fits(found.state, row.site, row.role, row.model, found.marks):
            continue
        if not where.words or where.fits_words(row.id, row.name, row.site, row.role, row.model):
            yield row


def get_selection(context: Context, name: str) -> SelectionRow:
    """One saved selection. Raises `MissingError`."""
    with context.database.read() as db:
        row = store.get(db, name)
    if row is None:
        raise MissingError(f"There is no selection {name!r}", "See them with 'doorstone selection list'")
    return row
