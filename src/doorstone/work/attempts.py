"""After the kit: attempts, observations of updates, and the standing that they confirm or contradict."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime

from doorstone.core.platforms import UpdateClass
from doorstone.core.rates import Rate, rates_by
from doorstone.core.standing import Attribution, ClassStanding, Observation, attributions, standing
from doorstone.store import attempts as store
from doorstone.store import kits as kit_store
from doorstone.store.said import body_of
from doorstone.work import after, kits
from doorstone.work.desk import Actor, Desk, id_of, made_before, number_of, record
from doorstone.work.devices import target_release
from doorstone.work.errors import BadInputError, MissingError, RefusedError, Trouble
from doorstone.work.hearing import NewReading
from doorstone.work.picture import picture
from doorstone.work.profiles import Settler
from doorstone.work.sheets import need_release

OUTCOMES = ("completed", "refused", "carry-over-lost", "failed-to-start", "rolled-back", "abandoned")
RESULTS = ("arrived", "offered", "not-offered")
MOST_TEXT = 500
REASONS = ("phased", "held", "unsupported", "unknown")


@dataclass(frozen=True, slots=True)
class AttemptGiven:
    device: str
    kit: str
    release: str
    route: str
    carry_over: str
    outcome: str
    refused_by: tuple[str, ...]
    seen: str
    media: str
    tool_version: str
    started_at: datetime
    ended_at: datetime
    notice_accepted: bool = False
    mismatch: str = ""


@dataclass(frozen=True, slots=True)
class Attempt:
    id: str
    row: store.AttemptRow


@dataclass(frozen=True, slots=True)
class ObservationGiven:
    device: str
    seen_on: date
    update_class: str
    result: str
    reason: str
    source: str
    detail: str


@dataclass(frozen=True, slots=True)
class DeviceStanding:
    device: str
    release: str
    classes: tuple[ClassStanding, ...]
    attributions: tuple[Attribution, ...] = ()


def record_attempts(desk: Desk, actor: Actor, given: Sequence[AttemptGiven]) -> list[Attempt]:
    """Record a day's work: all of the attempts, or none. Raises `BadInputError` that names each that cannot be."""
    troubles = []
    made: list[Attempt] = []
    plain = replace(actor, receipt=None)
    try:
        with desk.database.write():
            for at, one in enumerate(given, 1):
                try:
                    made.append(record_attempt(desk, plain, one))
                except (BadInputError, MissingError, RefusedError) as error:
                    troubles.append(Trouble(f"attempt {at}, {one.device}", error.detail, error.mend))
            if troubles:
                raise BadInputError("Nothing was recorded", "Mend each attempt and send all again", troubles)
    except BadInputError:
        desk.memory.pop("picture", None)
        raise
    return made


def record_attempt(desk: Desk, actor: Actor, given: AttemptGiven) -> Attempt:
    """Record an attempt. One that completed is also a reading of the release that the device now runs."""
    if given.outcome not in OUTCOMES:
        raise BadInputError(f"{given.outcome!r} is not an outcome", f"Use one of {', '.join(OUTCOMES)}")
    if given.ended_at < given.started_at:
        raise BadInputError(f"It ended {given.ended_at}, before it started", "Correct the times")
    if given.mismatch and given.outcome != "carry-over-lost":
        raise BadInputError("Only carry-over-lost has a mismatch", "Correct the outcome, or leave it out")
    if given.ended_at > desk.clock.now():
        raise BadInputError(f"It ended {given.ended_at}, which is yet to come", "Record it once it has ended")
    with desk.database.write() as db:
        if before := made_before(db, actor):
            return get_attempt(desk, before)
        now = picture(desk)
        now.device(given.device)
        platform = now.need_sheet(given.device).platform
        kit = kit_store.get(db, number_of("KT", given.kit)) if given.kit else None
        if given.kit and (kit is None or given.device not in kit.devices):
            raise MissingError(
                f"There is no kit {given.kit!r} for {given.device}", "See them with 'doorstone kit list'"
            )
        release = kit.release if kit else given.release or target_release(platform, desk.today())
        need_release(platform, release)
        known = {r.id for r in platform.requirements_at(release)}
        if unknown := [name for name in given.refused_by if name not in known]:
            raise BadInputError(
                f"{release} asks for no {', '.join(unknown)}", f"Name the check: {', '.join(sorted(known))}"
            )
        unmet = [f.requirement.id for f in now.assessment(given.device, release).unmet()]
        values = {
            "device": given.device,
            "kit": kit.id if kit else None,
            "platform": platform.id,
            "release": release,
            "route": kit.route if kit else given.route,
            "carry_over": kit.carry_over if kit else given.carry_over,
            "outcome": given.outcome,
            "refused_by": ", ".join(given.refused_by),
            "seen": given.seen,
            "media": given.media,
            "tool_version": given.tool_version,
            "unmet": unmet,
            "started_at": given.started_at.isoformat(),
            "ended_at": given.ended_at.isoformat(),
            "by": actor.name,
            "notice_accepted": platform.release(release).notice if given.notice_accepted else "",
            "mismatch": given.mismatch,
        }
        number = store.add(db, values)
        if kit and given.outcome != "abandoned":
            model, well = now.device(given.device).model, given.outcome == "completed"
            store.count_tries(db, platform.id, model, release, kit.overrides, well)
        if given.outcome in ("completed", "carry-over-lost"):
            ended = given.ended_at.isoformat()
            settler = Settler(desk, db)
            settler.drop_older(given.device, "os.release", ended)
            said = settler.known.shelf.number_of(db, body_of({"os.release": release}, {}, texts=[]))
            settler.hear([NewReading(given.device, "attempt", ended, said)])
            after.begin(desk, db, platform, kit, number, values)
        elif given.outcome == "refused" and not given.refused_by and given.seen.strip():
            settler = Settler(desk, db)  # words that name no check are a failure message that somebody is to sort
            words = [" ".join(given.seen.split())[:MOST_TEXT]]
            said = settler.known.shelf.number_of(db, body_of({}, {}, texts=words))
            settler.hear([NewReading(given.device, "attempt", given.ended_at.isoformat(), said)])
        record(desk, db, actor, f"attempt {given.outcome}", "attempt", id_of("AT", number), values, creates=True)
    return get_attempt(desk, id_of("AT", number))


def get_attempt(desk: Desk, name: str) -> Attempt:
    with desk.database.read() as db:
        row = store.get(db, number_of("AT", name))
    if row is None:
        raise MissingError(f"There is no attempt {name!r}", "See them with 'doorstone attempt list'")
    return Attempt(name, row)


def list_attempts(desk: Desk, device: str = "") -> list[Attempt]:
    with desk.database.read() as db:
        return [Attempt(id_of("AT", row.id), row) for row in store.every(db, device or None)]


@dataclass(frozen=True, slots=True)
class Draft:
    """What a next attempt on a device starts from: its number, the kit, media and tool of last time, what was met."""

    device: str
    number: int
    kit: str
    media: str
    tool_version: str
    met: tuple[str, ...]


def draft(desk: Desk, device: str) -> Draft:
    """What the next attempt starts from, so that it does not meet the same again."""
    picture(desk).device(device)
    earlier = list_attempts(desk, device)
    standing_kits = [k for k in kits.list_kits(desk, device) if not k.standing.reasons]
    last = earlier[0].row if earlier else None
    met = tuple(_met(attempt) for attempt in reversed(earlier) if attempt.row.outcome != "completed")
    return Draft(
        device,
        last.number + 1 if last else 1,
        standing_kits[0].id if standing_kits else "",
        last.media if last else "",
        last.tool_version if last else "",
        met,
    )


def _met(attempt: Attempt) -> str:
    row = attempt.row
    what = row.outcome.replace("-", " ") + (f" by {row.refused_by}" if row.refused_by else "")
    more = "; ".join(filter(None, (row.mismatch, row.seen)))
    return f"Try {row.number}, {row.ended_at[:10]}: {what}" + (f". {more}" if more else "")


BY = ("override", "release", "route", "model", "media", "tool")


def success_rates(desk: Desk, by: str, platform_id: str = "") -> dict[str, Rate]:
    """How often attempts completed, by override, release, route, model, media or tool version."""
    if by not in BY:
        raise BadInputError(f"Attempts are not counted by {by!r}", f"Use one of {', '.join(BY)}")
    now = picture(desk)
    with desk.database.read() as db:
        rows = [row for row in store.every(db, None) if not platform_id or row.platform == platform_id]
        used = {row.id: row.overrides for row in kit_store.every(db)}
    tries: list[tuple[str, bool]] = []
    for row in rows:
        if row.outcome == "abandoned":
            continue
        keys: Sequence[str] = {
            "release": [f"{row.platform} {row.release}"],
            "route": [row.route],
            "media": [row.media or "not said"],
            "tool": [row.tool_version or "not said"],
        }.get(by, [])
        if by == "model":
            keys = [now.device(row.device).model or "unread"]
        elif by == "override":
            keys = used.get(row.kit or 0, ()) or ["none"]
        tries += [(key, row.outcome == "completed") for key in keys]
    return {str(key): found for key, found in rates_by(tries).items()}


def record_observations(desk: Desk, actor: Actor, given: Sequence[ObservationGiven]) -> tuple[int, int]:
    """Record many observations, all or none; those known already are left alone. Returns (recorded, known)."""
    troubles, recorded, known = [], 0, 0
    plain = replace(actor, receipt=None)
    with desk.database.write() as db:
        for at, one in enumerate(given, 1):
            if store.has_observation(db, one.device, one.seen_on.isoformat(), one.update_class, one.source, one.result):
                known += 1
                continue
            try:
                record_observation(desk, plain, one)
                recorded += 1
            except (BadInputError, MissingError) as error:
                troubles.append(Trouble(f"observation {at}, {one.device}", error.detail, error.mend))
        if troubles:
            desk.memory.pop("picture", None)
            raise BadInputError("Nothing was recorded", "Mend each observation and send all again", troubles)
    return recorded, known


def record_observation(desk: Desk, actor: Actor, given: ObservationGiven) -> store.ObservationRow:
    """Record what was seen of one update class on a device on a day."""
    if given.update_class not in set(UpdateClass):
        raise BadInputError(f"{given.update_class!r} is not an update class", f"Use one of {', '.join(UpdateClass)}")
    if given.result not in RESULTS:
        raise BadInputError(f"{given.result!r} is not what can be seen", f"Use one of {', '.join(RESULTS)}")
    if (given.result == "not-offered") != bool(given.reason) or (given.reason and given.reason not in REASONS):
        raise BadInputError(
            "The reason does not fit", f"Not offered takes one of {', '.join(REASONS)}; else leave it out"
        )
    if given.seen_on > desk.today():
        raise BadInputError(f"{given.seen_on} is yet to come", "Record what was seen, on the day it was seen")
    picture(desk).device(given.device)
    values = {
        "device": given.device,
        "seen_on": given.seen_on.isoformat(),
        "update_class": given.update_class,
        "result": given.result,
        "reason": given.reason,
        "source": given.source or "operator",
        "detail": given.detail,
        "by": actor.name,
    }
    with desk.database.write() as db:
        if before := made_before(db, actor):
            number = number_of("OB", before)
        else:
            number = store.add_observation(db, values)
            record(desk, db, actor, "observed", "observation", id_of("OB", number), values, creates=True)
        row = store.observation(db, number)
    assert row is not None
    return row


def get_observation(desk: Desk, name: str) -> store.ObservationRow:
    with desk.database.read() as db:
        row = store.observation(db, number_of("OB", name))
    if row is None:
        raise MissingError(f"There is no observation {name!r}", "See the device's standing")
    return row


def list_observations(desk: Desk, device: str) -> list[store.ObservationRow]:
    with desk.database.read() as db:
        return store.observations(db, device or None)


def device_standing(desk: Desk, device: str) -> DeviceStanding:
    """Expected and observed, per update class, at the release that the device runs."""
    now = picture(desk)
    now.device(device)
    platform = now.need_sheet(device).platform
    runs = now.view(device).text("os.release")
    need_release(platform, runs)
    seen = [
        Observation(date.fromisoformat(o.seen_on), UpdateClass(o.update_class), o.result, o.reason, o.source, o.detail)
        for o in list_observations(desk, device)
    ]
    assessment = now.assessment(device, runs)
    classes = standing(platform, assessment, seen, now.today, desk.policy.check_every_days, now.device(device).edition)
    held = [
        (e.id, e.requirements) for e in now.exceptions_of(device) if e.in_force(now.today) and e.reaches(platform, runs)
    ]
    return DeviceStanding(device, runs, classes, attributions(platform, assessment, held))
