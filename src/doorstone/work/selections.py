"""Selections of devices: a filter given on the spot or saved under a name, and what of the fleet it chooses."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import asdict, dataclass

from doorstone.core.platforms import Platform
from doorstone.core.sorting import State
from doorstone.store import selections as store
from doorstone.store.devices import DeviceRow, Filter
from doorstone.store.profiles import ProfileCount
from doorstone.store.selections import SelectionRow
from doorstone.work.board import standings
from doorstone.work.desk import Actor, Desk, record
from doorstone.work.devices import check_requirement, target_release
from doorstone.work.errors import BadInputError, MissingError
from doorstone.work.picture import Picture, picture
from doorstone.work.sheets import by_size, get_sheet, need_release


@dataclass(frozen=True, slots=True)
class Chosen:
    """What is looked at: a platform, a release, and which of its devices."""

    platform: Platform
    release: str
    where: Filter
    selection: str


@dataclass(frozen=True, slots=True)
class Case:
    """So many devices that are alike: one profile, and the same requirements excepted today.

    `named` are the devices themselves where exceptions name something on them, else empty.
    """

    profile: int
    excepted: frozenset[str]
    devices: int
    named: tuple[str, ...] = ()


def choose_devices(desk: Desk, platform_id: str, release: str, where: Filter, selection: str = "") -> Chosen:
    """A filter, on top of a saved selection if one is named. Raises `MissingError` or `BadInputError`."""
    platform = get_sheet(desk, platform_id).platform
    if selection:
        saved = get_selection(desk, selection)
        if saved.platform != platform_id:
            raise BadInputError(f"{selection!r} is a selection of {saved.platform}", "Choose that platform")
        given = {name: value for name, value in asdict(where).items() if value}
        where = Filter(**{**asdict(saved.chosen), **given})
        release = release or saved.release
    release = release or target_release(platform, desk.today())
    need_release(platform, release)
    check_requirement(platform, release, where.requirement)
    if where.state and where.state not in set(State):
        raise BadInputError(f"{where.state!r} is not a state", f"Use one of {', '.join(State)}")
    return Chosen(platform, release, where, selection)


def counts(desk: Desk, chosen: Chosen) -> list[ProfileCount]:
    """How many of the chosen devices are of each profile, where; one by one only if words are looked for."""
    if not chosen.where.words:
        every = picture(desk).counts(chosen.platform, chosen.release)
        return [count for count in every if fits(count, chosen.where)]
    return [
        ProfileCount(row.profile or 0, row.site, row.role, row.model, row.runs, 1, found.state, found.marks)
        for row, found in picture(desk).find(chosen.platform, chosen.release, chosen.where)
    ]


def devices_of(desk: Desk, platform_id: str, release: str, where: Filter, selection: str = "") -> list[str]:
    """The devices that a filter and a saved selection choose, by id. Raises `MissingError` or `BadInputError`."""
    platform_id = platform_id or (get_selection(desk, selection).platform if selection else "")
    chosen = choose_devices(desk, platform_id or by_size(desk)[0][0].platform.id, release, where, selection)
    return [row.id for row, _ in picture(desk).find(chosen.platform, chosen.release, chosen.where)]


def fits(count: ProfileCount, where: Filter) -> bool:
    """Whether devices of this profile at this place are chosen, words apart."""
    if (where.state and count.state != where.state) or (where.model and count.model != where.model):
        return False
    if (where.site and count.site != where.site) or (where.role and count.role != where.role):
        return False
    if where.requirement:
        mark = count.marks.get(where.requirement, "met")
        return mark == where.mark if where.mark else mark != "met"
    return True


def cases(desk: Desk, chosen: Chosen, found: list[ProfileCount]) -> list[Case]:
    """The chosen devices by profile; those with an exception in force are apart from their profile's others."""
    now = picture(desk)
    excepted = now.excepted(chosen.platform, chosen.release)
    left = Counter({count.profile: 0 for count in found})
    for count in found:
        left[count.profile] += count.devices
    apart: dict[tuple[int, frozenset[str]], list[str]] = {}
    for row in among(now, chosen, found, now.rows(excepted)):
        left[row.profile or 0] -= 1
        apart.setdefault((row.profile or 0, excepted[row.id]), []).append(row.id)
    plain = [Case(profile, frozenset(), n) for profile, n in left.items() if n > 0]
    return plain + [Case(profile, names, len(ids), tuple(ids)) for (profile, names), ids in apart.items()]


def among(
    now: Picture, chosen: Chosen, found: Iterable[ProfileCount], rows: Iterable[DeviceRow]
) -> Iterator[DeviceRow]:
    """Those of these devices that are chosen; `found` are the counts of what is chosen."""
    places = {(count.profile, count.site, count.role, count.state) for count in found}
    plain = standings(now.desk, chosen.platform, chosen.release).of
    raised = now.raised(chosen.platform, chosen.release)
    words = chosen.where.words.lower().split()
    for row in rows:
        state = raised[row.id].stands.state if row.id in raised else plain.state(row.profile) if row.profile else ""
        text = f"{row.id} {row.name} {row.site} {row.role} {row.model}".lower()
        if (row.profile, row.site, row.role, state) in places and all(word in text for word in words):
            yield row


# --------------------------------------------------------------------- saved


def save_selection(desk: Desk, actor: Actor, name: str, platform_id: str, release: str, where: Filter) -> SelectionRow:
    """Save a filter under a name; the same name again replaces it."""
    if not name.strip() or len(name) > 80 or not name.isprintable() or "/" in name:
        raise BadInputError("A selection has a name", "Give one of up to 80 letters, without a slash")
    choose_devices(desk, platform_id, release, where)
    if where == Filter():
        raise BadInputError("The selection chooses every device", "Give at least one condition")
    row = SelectionRow(name.strip(), platform_id, release, where, actor.name, desk.now())
    with desk.database.write() as db:
        store.save(db, row)
        body = {"platform": platform_id, "release": release, **asdict(where)}
        record(desk, db, actor, "selection saved", "selection", row.name, body)
    return row


def list_selections(desk: Desk) -> list[SelectionRow]:
    with desk.database.read() as db:
        return store.every(db)


def get_selection(desk: Desk, name: str) -> SelectionRow:
    """Raises `MissingError`."""
    with desk.database.read() as db:
        row = store.get(db, name)
    if row is None:
        raise MissingError(f"There is no selection {name!r}", "See them with 'doorstone selection list'")
    return row


def delete_selection(desk: Desk, actor: Actor, name: str) -> None:
    """Forget a selection. Raises `MissingError`."""
    with desk.database.write() as db:
        if not store.delete(db, name):
            raise MissingError(f"There is no selection {name!r}", "See them with 'doorstone selection list'")
        record(desk, db, actor, "selection deleted", "selection", name, {})
