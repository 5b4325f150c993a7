"""After the kit: attempts, observations of updates, and the standing that they confirm or contradict."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime

from doorstone.core.platforms import UpdateClass
from doorstone.core.standing import ClassStanding, Observation, standing
from doorstone.store import attempts as store
from doorstone.store import devices as device_store
from doorstone.store import kits as kit_store
from doorstone.work.desk import Actor, Desk, id_of, made_before, number_of, record
from doorstone.work.errors import BadInputError, MissingError
from doorstone.work.picture import picture
from doorstone.work.sheets import need_release

OUTCOMES = ("completed", "refused", "carry-over-lost", "failed-to-start", "rolled-back", "abandoned")
RESULTS = ("arrived", "offered", "not-offered")
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


def record_attempt(desk: Desk, actor: Actor, given: AttemptGiven) -> Attempt:
    """Record an attempt. One that completed is also a reading of the release that the device now runs."""
    if given.outcome not in OUTCOMES:
        raise BadInputError(f"{given.outcome!r} is not an outcome", f"Use one of {', '.join(OUTCOMES)}")
    if given.ended_at < given.started_at:
        raise BadInputError(f"It ended {given.ended_at}, before it started", "Correct the times")
    if given.ended_at > desk.clock.now():
        raise BadInputError(f"It ended {given.ended_at}, which is yet to come", "Record it once it has ended")
    with desk.database.write() as db:
        if before := made_before(db, actor):
            return get_attempt(desk, before)
        now = picture(desk)
        now.device(given.device)
        platform = now.need_sheet(given.device).platform
        kit = kit_store.get(db, number_of("KT", given.kit)) if given.kit else None
        if given.kit and (kit is None or kit.device != given.device):
            raise MissingError(
                f"There is no kit {given.kit!r} for {given.device}", "See them with 'doorstone kit list'"
            )
        release = kit.release if kit else given.release
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
        }
        number = store.add(db, values)
        if given.outcome in ("completed", "carry-over-lost"):
            ended = given.ended_at.isoformat()
            device_store.drop_older(db, given.device, "os.release", ended)
            device_store.add_reading(db, given.device, None, "attempt", ended, {"os.release": release}, {})
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
    runs = now.views[device].text("os.release")
    need_release(platform, runs)
    seen = [
        Observation(date.fromisoformat(o.seen_on), UpdateClass(o.update_class), o.result, o.reason, o.source, o.detail)
        for o in list_observations(desk, device)
    ]
    classes = standing(platform, now.assessment(device, runs), seen, now.today, desk.policy.check_every_days)
    return DeviceStanding(device, runs, classes)
