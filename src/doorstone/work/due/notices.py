"""What an administrator must notice: what the records say that nobody foresaw, each with what to do about it."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import date, timedelta

from doorstone.core.due import Due, DueKind
from doorstone.core.platforms.platform import Platform, Sort
from doorstone.store import attempts as attempt_store
from doorstone.store import followups as after_store
from doorstone.store import kits as kit_store
from doorstone.store import media as media_store
from doorstone.store.attempts import AttemptRow
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import profiles as profile_store
from doorstone.store.devices.devices import DeviceRow
from doorstone.work.context.context import Context
from doorstone.work.context.ids import id_of
from doorstone.work.snapshot.failure_messages import list_messages
from doorstone.work.snapshot.fix_results import FixWord, latest_fixes
from doorstone.work.snapshot.snapshot import Snapshot
from doorstone.work.snapshot.uncovered import UncoveredDevice, arrived_on, failing, uncovered_of

DECIDERS = frozenset({"approver", "administrator"})
HANDS = frozenset({"technician", "administrator"})
KEEPERS = frozenset({"administrator"})
NAMED = 4  # devices that a line names; more are counted


def noticed(context: Context, db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    """Everything of this kind, for every platform."""
    for name in sorted(now.sheets):
        platform = now.sheets[name].platform
        yield from _running(db, now, platform)
        yield from _went_wrong(db, now, platform)
        yield from _texts(context, now, platform)
        yield from _late(db, now, platform)
    yield from _fixes(now)
    yield from _drifted(db, now)
    yield from _silent(context, db, now)


def _these(rows: Sequence[DeviceRow]) -> str:
    names = [row.id for row in rows]
    if len(names) <= NAMED:
        return " and ".join([", ".join(names[:-1]), names[-1]] if len(names) > 1 else names)
    return f"{', '.join(names[:NAMED])} and {len(names) - NAMED} more"


def _sites(rows: Sequence[DeviceRow]) -> frozenset[str]:
    return frozenset(row.site for row in rows)


# ------------------------------------------------------------------ what devices run


def _running(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> Iterator[Due]:
    """Requirements unmet at the release that a device runs: floors, and checks that no exception in force names."""
    for release, rows in failing(db, now, platform):
        yield from _contradicted(db, now, platform, release, rows)
    yield from _uncovered(uncovered_of(db, now, platform))


def _contradicted(
    db: sqlite3.Connection, now: Snapshot, platform: Platform, release: str, rows: Sequence[DeviceRow]
) -> Iterator[Due]:
    found: dict[str, list[DeviceRow]] = {}
    assessed = now.assessments(rows, release)
    for row in rows:
        for finding in assessed[row.id].unmet() if row.id in assessed else ():
            if finding.sort is Sort.FLOOR:
                found.setdefault(finding.requirement.id, []).append(row)
    for requirement, held in found.items():
        title = platform.requirement(requirement).title
        words = (
            f"{_these(held)}: on {release} although “{title}” is unmet and sorted as a floor there: "
            "sort it anew, or read again"
        )
        on = min(arrived_on(db, row, release) for row in held)
        yield Due(
            DueKind.FLOOR_RUNS, on, "device", held[0].id, words, roles=KEEPERS, sites=_sites(held),
            part=f"{release} {requirement}",
        )  # fmt: skip


def _uncovered(found: Iterable[UncoveredDevice]) -> Iterator[Due]:
    alike: dict[tuple[str, tuple[str, ...]], list[UncoveredDevice]] = {}
    for one in found:
        alike.setdefault((one.release, one.found.requirements), []).append(one)
    for (release, missing), mine in alike.items():
        rows = [one.row for one in mine]
        words = (
            f"{_these(rows)}: on {release} with {', '.join(missing)} unmet and no exception in force: "
            "renew or ask, fix, or go back"
        )
        on = min(one.found.since for one in mine)
        yield Due(
            DueKind.UNCOVERED, on, "device", rows[0].id, words, roles=DECIDERS | HANDS, sites=_sites(rows),
            part=f"{release} {' '.join(missing)}",
        )  # fmt: skip


# ----------------------------------------------------------------- what went wrong


def _went_wrong(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> Iterator[Due]:
    """Attempts that ended otherwise than the sheet has it, until the device is tried again or somebody decides."""
    decided = {(d.requirement, d.release): d.at.isoformat() for d in now.decisions_for(platform)}
    for device in attempt_store.wrong_devices(db, platform.id):
        rows = attempt_store.every(db, device)
        last, row = rows[0], now.device(device)
        kit = kit_store.overrides_of(db, [last.kit]).get(last.kit, ()) if last.kit is not None else ()
        if last.outcome == "failed-to-start":
            open_ = [r for r in last.unmet if decided.get((r, last.release), "") < last.ended_at]
            if open_:
                words = (
                    f"{device} did not start on {last.release} with {', '.join(open_)} unmet ({id_of('AT', last.id)}): "
                    "is one of them a floor? Sort it, or try again"
                )
                yield _attempt_due(DueKind.FLOOR_FOUND, last, row, words, KEEPERS)
        elif last.outcome == "refused":
            yield _attempt_due(DueKind.REFUSED, last, row, _refused_words(platform, device, last, kit), HANDS | KEEPERS)
        elif last.outcome == "rolled-back":
            words = (
                f"{device} went back from {last.release} ({id_of('AT', last.id)}): try again, or close its exception"
            )
            yield _attempt_due(DueKind.WENT_BACK, last, row, words, HANDS)


def _refused_words(platform: Platform, device: str, last: AttemptRow, kit: Sequence[str]) -> str:
    name, by = id_of("AT", last.id), [r for r in last.refused_by.split(", ") if r]
    if not by:
        seen = f": “{last.seen}”" if last.seen else ""
        return (
            f"set-up refused {device} on {last.release} by no check that was named ({name}){seen}: "
            "name it in a new attempt, or add the check to the sheet"
        )
    blamed = [o.id for o in platform.overrides if o.id in kit and o.covers & set(by)]
    if blamed:
        return (
            f"{' and '.join(blamed)} did not keep set-up from refusing {device} on {last.release} by {', '.join(by)} "
            f"({name}): if it has ended, say so in the sheet; choose another"
        )
    return (
        f"set-up refused {device} on {last.release} by {', '.join(by)}, which no override of the kit covers ({name}): "
        "read the device again, or ask for an exception"
    )


def _attempt_due(kind: DueKind, last: AttemptRow, row: DeviceRow, words: str, roles: frozenset[str]) -> Due:
    on = date.fromisoformat(last.ended_at[:10])
    return Due(kind, on, "device", row.id, words, roles=roles, sites=frozenset({row.site}), part=id_of("AT", last.id))


def _texts(context: Context, now: Snapshot, platform: Platform) -> Iterator[Due]:
    """Failure messages that match no requirement."""
    waiting = list_messages(context, platform.id, waiting=True)
    if waiting:
        first = waiting[0]
        more = f" and {len(waiting) - 1} more" if len(waiting) > 1 else ""
        said = f"“{first.text}” ({first.devices} device{'s' if first.devices > 1 else ''}){more}"
        words = f"{platform.id}: {said} match no requirement: say what they speak of"
        on = date.fromisoformat(min(one.last for one in waiting)[:10])
        yield Due(DueKind.UNMATCHED, on, "platform", platform.id, words, roles=KEEPERS)


def _late(db: sqlite3.Connection, now: Snapshot, platform: Platform) -> Iterator[Due]:
    """Releases that should be out and that nothing here shows: no device, no media, no attempt."""
    runs = {row.running_release for row in profile_store.in_use(db, platform.id).values()}
    shown = {*runs, *(m.release for m in media_store.every(db) if m.platform == platform.id)}
    shown |= attempt_store.releases_tried(db, platform.id)
    newest = max((platform.index(release) for release in shown if platform.has(release)), default=-1)
    for release in platform.releases[newest + 1 :]:
        if release.published < now.today:
            words = (
                f"{platform.id}: {release.id} was to be published on {release.published}, and nothing here shows it: "
                "record its media, or correct the sheet's date"
            )
            yield Due(
                DueKind.LATE, release.published + timedelta(days=1), "platform", platform.id, words, roles=KEEPERS,
                part=release.id,
            )  # fmt: skip


# ------------------------------------------------------------- fixes, drift, silence


def _fixes(now: Snapshot) -> Iterator[Due]:
    """Fixes that failed, or that the next reading does not show."""
    for one in latest_fixes(now):
        if one.word in (FixWord.FAILED, FixWord.NOT_SEEN):
            row = now.device(one.row.device)
            words = f"{row.id}: {one.row.title}, {one.told}: look again, or except what it was for"
            on = date.fromisoformat(one.row.done_at[:10])
            yield Due(
                DueKind.FIX_NOT_SEEN, on, "device", row.id, words, roles=HANDS, sites=frozenset({row.site}), part=one.id
            )


def drifted(db: sqlite3.Connection) -> Mapping[str, tuple[str, str, tuple[str, ...]]]:
    """Device -> (kit, day, settings that are not as the kit put them in), by the newest verification of each kit."""
    found = {}
    for row in after_store.not_right(db):
        wrong = tuple(
            f"{s['section']}/{s['name']}".lstrip("/") + f" {s['state']}" for s in row.settings if s["state"] != "right"
        )
        found[row.device] = id_of("KT", row.kit), row.at[:10], wrong
    return found


def _drifted(db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    for device, (kit, day, wrong) in sorted(drifted(db).items()):
        row = now.device(device)
        words = f"{device}: {', '.join(wrong)} since {kit} ({day}): apply the kit again, and verify"
        yield Due(
            DueKind.DRIFT, date.fromisoformat(day), "device", device, words, roles=HANDS, sites=frozenset({row.site}),
            part=kit,
        )  # fmt: skip


def _silent(context: Context, db: sqlite3.Connection, now: Snapshot) -> Iterator[Due]:
    """Devices of which nothing has been read for long, by site."""
    before = now.today - timedelta(days=context.policy.silent_days)
    by_site: dict[str, list[tuple[str, DeviceRow]]] = {}
    for row, heard in device_store.silent_since(db, before.isoformat()):
        by_site.setdefault(row.site, []).append((heard, row))
    for site, held in sorted(by_site.items()):
        rows = [row for _, row in held]
        last = min(heard for heard, _ in held)[:10]
        words = (
            f"{_these(rows)}: nothing read since {last} at {site or 'no site'}: read again, or find out where they are"
        )
        on = date.fromisoformat(last) + timedelta(days=context.policy.silent_days + 1)
        yield Due(DueKind.SILENT, on, "device", rows[0].id, words, roles=HANDS, sites=frozenset({site}), part=site)
