"""Due on the fleet: what runs without permission, contradictions, silence, and what ends by itself."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from datetime import date, timedelta

from msgspec import Struct

from doorstone.core.devices.life import GONE, Life, LifeChange
from doorstone.core.due.items import DECIDERS, HANDS, KEEPERS, MOST_NAMED, Due, DueDevice, DueKind, names, sites_of
from doorstone.core.platforms.platform import Platform

SERVICING_AHEAD = timedelta(days=90)
"""Moving a fleet takes weeks."""


class Running(Struct, frozen=True):
    """So many devices with `requirements` unmet at the release that they run, the first of them since a day.

    `named` are up to four of them, the first by id.
    """

    devices: int
    named: tuple[DueDevice, ...]
    sites: frozenset[str]
    release: str
    requirements: tuple[str, ...]
    since: date

    @classmethod
    def one(cls, device: DueDevice, release: str, requirements: tuple[str, ...], since: date) -> Running:
        return cls(1, (device,), frozenset({device.site}), release, requirements, since)


class EditionInUse(Struct, frozen=True):
    """So many devices that run one release in one edition, as they report it."""

    release: str
    edition: str
    devices: int
    sites: frozenset[str]


def uncovered_due(found: Iterable[Running]) -> Iterator[Due]:
    """Checks that no exception in force names; devices that lack the same are one item."""
    for one in _alike(found):
        words = (
            f"{names(one.named, one.devices)}: on {one.release} with {', '.join(one.requirements)} unmet and no "
            "exception in force: renew or ask, fix, or go back"
        )
        yield _running_due(DueKind.UNCOVERED, one, words, DECIDERS | HANDS)


def contradiction_due(platform: Platform, found: Iterable[Running]) -> Iterator[Due]:
    """Floors unmet at the release that a device runs: it contradicts the sort."""
    for one in _alike(found):
        title = platform.requirement(one.requirements[0]).title
        words = (
            f"{names(one.named, one.devices)}: on {one.release} although “{title}” is unmet and sorted as a floor "
            "there: sort it anew, or read again"
        )
        yield _running_due(DueKind.FLOOR_RUNS, one, words, KEEPERS)


def _running_due(kind: DueKind, one: Running, words: str, roles: frozenset[str]) -> Due:
    part = f"{one.release} {' '.join(one.requirements)}"
    return Due(kind, one.since, "device", one.named[0].id, words, roles=roles, sites=one.sites, part=part)


def _alike(found: Iterable[Running]) -> list[Running]:
    """Devices that lack the same requirements on the same release become one item."""
    alike: dict[tuple[str, tuple[str, ...]], list[Running]] = {}
    for one in found:
        alike.setdefault((one.release, one.requirements), []).append(one)
    return [
        Running(
            sum(one.devices for one in mine),
            tuple(sorted((device for one in mine for device in one.named), key=lambda d: d.id)[:MOST_NAMED]),
            frozenset().union(*(one.sites for one in mine)),
            release,
            requirements,
            min(one.since for one in mine),
        )
        for (release, requirements), mine in alike.items()
    ]


def silence_due(site: str, devices: Sequence[DueDevice], last: date, silent_days: int) -> Due:
    """Devices of a site of which nothing was read for long, the first since `last`."""
    words = (
        f"{names(devices)}: nothing read since {last} at {site or 'no site'}: read again, or find out where they are"
    )
    return _due(DueKind.SILENT, last + timedelta(days=silent_days + 1), devices, words, HANDS, site)


def expiring_due(site: str, devices: Sequence[DueDevice], last: date) -> Due:
    """Devices of a site whose state rests on readings that expire soon, the first of them after the day `last`."""
    words = (
        f"{names(devices)}: readings at {site or 'no site'} expire after {last}; read the "
        f"{'device' if len(devices) == 1 else 'devices'} again by then, or the state becomes unsettled"
    )
    return _due(DueKind.EXPIRING, last, devices, words, HANDS, site)


def expired_due(platform: str, site: str, devices: Sequence[DueDevice], since: date) -> Due:
    """Devices of a site that are unsettled because readings have expired, the first of them since a day."""
    words = (
        f"{names(devices)}: readings at {site or 'no site'} expired, the first on {since}; the state is unsettled "
        f"until the {'device is' if len(devices) == 1 else 'devices are'} read again"
    )
    return _due(DueKind.EXPIRED, since, devices, words, HANDS, f"{platform} {site}")


def unplaced_due(reason: str, value: str, devices: Sequence[DueDevice], hint: str, since: date) -> Due:
    """Devices that no sheet places, for the same reason and value."""
    what = f"{reason.replace('-', ' ')} {value}".strip()
    words = f"{names(devices)}: placed by no sheet, {what}: {hint[0].lower()}{hint[1:]}"
    return _due(DueKind.UNPLACED, since, devices, words, KEEPERS, f"{reason} {value}".strip())


def life_due(device: DueDevice, change: LifeChange, last_read: date | None) -> Iterator[Due]:
    """What a device that is not in service leaves to do; `last_read` is the day of its newest reading."""
    if change.life is Life.SET_ASIDE and change.look_on is not None:
        words = f"{device.id} is set aside until this day: bring it back, retire it, or name another day"
        yield _due(DueKind.LOOK_AGAIN, change.look_on, [device], words, HANDS, change.life)
    if change.life not in GONE:
        return
    if last_read is not None and last_read > change.on:
        words = (
            f"{device.id} is {change.life} since {change.on} and was read on {last_read}: bring it back, or find out"
        )
        yield _due(DueKind.READ_AGAIN, last_read, [device], words, HANDS, change.life)
    if not change.wiped_by:
        words = (
            f"{device.id} is {change.life} since {change.on} and nobody has erased its data: erase it, and say who did"
        )
        yield _due(DueKind.NOT_WIPED, change.on, [device], words, HANDS, change.life)


def task_due(task: str, words: str, owner: str, devices: Sequence[DueDevice], made_on: date) -> Due:
    """A task that a changed sheet left, for its owner."""
    return Due(DueKind.TASK, made_on, "task", task, words, people=frozenset({owner}), sites=sites_of(devices))


def messages_due(platform: str, waiting: Sequence[tuple[str, int]], since: date) -> Due | None:
    """Failure messages, each with its number of devices, that match no requirement."""
    if not waiting:
        return None
    text, devices = waiting[0]
    more = f" and {len(waiting) - 1} more" if len(waiting) > 1 else ""
    what = f"“{text}” ({devices} device{'s' if devices > 1 else ''}){more}"
    words = f"{platform}: {what} match no requirement: say what they speak of"
    return Due(DueKind.UNMATCHED, since, "platform", platform, words, roles=KEEPERS)


def late_releases(platform: Platform, shown: Collection[str], as_of: date) -> Iterator[Due]:
    """Releases that should be out by now, although no device, media or attempt shows them."""
    newest = max((platform.index(release) for release in shown if platform.has(release)), default=-1)
    for release in platform.releases[newest + 1 :]:
        if release.published < as_of:
            words = (
                f"{platform.id}: {release.id} was to be published on {release.published}, and nothing here shows it: "
                "record its media, or correct the sheet's date"
            )
            on = release.published + timedelta(days=1)
            yield Due(DueKind.LATE, on, "platform", platform.id, words, roles=KEEPERS, part=release.id)


def servicing_due(platform: Platform, running: Iterable[EditionInUse], as_of: date) -> Iterator[Due]:
    """Releases whose servicing ends within 90 days, or has ended, while devices run them."""
    editions = {name.casefold(): name for name in platform.editions}
    only = platform.editions[0] if len(platform.editions) == 1 else ""
    for one in running:
        edition = editions.get(one.edition.casefold(), only)
        ends = platform.release(one.release).servicing_ends.get(edition) if platform.has(one.release) else None
        if ends is not None and ends <= as_of + SERVICING_AHEAD:
            count = "1 device" if one.devices == 1 else f"{one.devices} devices"
            word = "ended" if ends < as_of else "ends"
            words = (
                f"{platform.id} {one.release}, {edition}: servicing {word} with this day for {count}; "
                "take the next release"
            )
            part = f"{one.release} {edition}"
            yield Due(
                DueKind.SERVICING_ENDS, ends, "platform", platform.id, words, roles=HANDS, sites=one.sites, part=part
            )


def link_due(media: str, what: str, ends: date, as_of: date) -> Due:
    """The link from which media can be had again ends; `what` says of which platform, release and language it is."""
    word = "ended" if ends < as_of else "ends"
    words = f"{media}: the link of {what}, {word} with this day: ask for it again"
    return Due(DueKind.LINK_ENDS, ends, "media", media, words, roles=HANDS)


def kit_due(kit: str, unused: Sequence[DueDevice], last: date) -> Due:
    """A kit that was not used on each of its devices, and may be used through `last`."""
    named = ", ".join(device.id for device in unused[:4])
    words = f"{kit} for {named} may be used through this day: use it, or renew what it rests on"
    return Due(DueKind.KIT_EXPIRES, last, "kit", kit, words, roles=HANDS, sites=sites_of(unused))


def _due(kind: DueKind, on: date, devices: Sequence[DueDevice], words: str, roles: frozenset[str], part: str) -> Due:
    return Due(kind, on, "device", devices[0].id, words, roles=roles, sites=sites_of(devices), part=part)
