"""Standing: what running with requirements unmet does to each update class, expected against observed.

In: an assessment at the release that the device runs, observations, a day. Out: one `ClassStanding` per class.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, timedelta

from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.errors import InvalidInputError
from doorstone.core.platforms.platform import Platform, Standing, UpdateClass
from doorstone.core.sorting.assessment import Assessment, Finding


class Observation(Struct, frozen=True):
    """What was seen of one update class on a day: `arrived`, `offered` or `not-offered` with a reason."""

    seen_on: date
    update_class: UpdateClass
    result: str
    reason: str = ""
    source: str = ""
    detail: str = ""


RESULTS = ("arrived", "offered", "not-offered")
REASONS = ("phased", "held", "unsupported", "unknown")
"""Why a release is not offered."""
REPEAT_AFTER = timedelta(days=7)
"""The update service is asked often; the same answer is recorded anew only after this time."""
FIRST_RETRY, LONGEST_RETRY = timedelta(minutes=5), timedelta(days=1)


def check_observation(update_class: str, result: str, reason: str, seen_on: date, as_of: date) -> None:
    """Raises `InvalidInputError` for a word that is not known, a reason that does not fit, a day to come."""
    if update_class not in set(UpdateClass):
        raise InvalidInputError(f"{update_class!r} is not an update class", f"Use one of {', '.join(UpdateClass)}")
    if result not in RESULTS:
        raise InvalidInputError(f"{result!r} is not what can be seen", f"Use one of {', '.join(RESULTS)}")
    if (result == "not-offered") != bool(reason) or (reason and reason not in REASONS):
        raise InvalidInputError(
            "The reason does not fit", f"Not offered takes one of {', '.join(REASONS)}; else leave it out"
        )
    if seen_on > as_of:
        raise InvalidInputError(f"{seen_on} is yet to come", "Record what was seen, on the day it was seen")


def says_something(last: Observation | None, new: Observation) -> bool:
    """Whether a service's answer is worth a record: it differs from the last one, or that is a week old."""
    if last is None or (last.result, last.reason) != (new.result, new.reason):
        return True
    return new.seen_on - last.seen_on >= REPEAT_AFTER


def retry_after(failures: int) -> timedelta:
    """How long to wait after so many failures in a row and one more: 5 minutes, doubled each time, up to a day."""
    return min(LONGEST_RETRY, FIRST_RETRY * (1 << min(failures, 20)))


class ClassStanding(Struct, frozen=True):
    """One update class. `compared` is as-expected, better, worse, too-old or not-observed."""

    update_class: UpdateClass
    expected: Standing
    because: tuple[str, ...]
    observed: Observation | None
    compared: str


def standing(
    platform: Platform,
    assessment: Assessment,
    observations: Iterable[Observation],
    as_of: date,
    check_every_days: int = 60,
    edition: str = "",
) -> tuple[ClassStanding, ...]:
    """The worst effect of the unmet requirements per class, beside the newest observation of that class.

    After the release's last serviced day for the edition every class is `ended`; what is seen from then on is as
    expected if nothing comes, and better if something still does.
    """
    seen = [o for o in observations if o.seen_on <= as_of]
    ends = platform.release(assessment.release).servicing_ends.get(edition)
    found = [_one(platform, assessment, seen, kind, as_of, check_every_days, ends) for kind in UpdateClass]
    return tuple(_ended(one) if ends is not None and as_of > ends else one for one in found)


def _ended(one: ClassStanding) -> ClassStanding:
    """After a release's last serviced day every class is `ended`: nothing is promised, and nothing can be worse."""
    return replace(one, expected=Standing.ENDED, because=())


def _one(
    platform: Platform,
    assessment: Assessment,
    seen: list[Observation],
    kind: UpdateClass,
    as_of: date,
    check_every_days: int,
    ends: date | None,
) -> ClassStanding:
    expected, because = Standing.NORMAL, []
    for finding in assessment.findings:
        if finding.finding is not Finding.UNMET:
            continue
        effect = platform.effects_at(finding.requirement, assessment.release).get(kind, Standing.NORMAL)
        if effect.rank > expected.rank:
            expected, because = effect, [finding.requirement.id]
        elif effect is expected and effect is not Standing.NORMAL:
            because.append(finding.requirement.id)
    newest = max((o for o in seen if o.update_class is kind), key=lambda o: o.seen_on, default=None)
    then = Standing.ENDED if newest and ends is not None and newest.seen_on > ends else expected
    return ClassStanding(kind, expected, tuple(because), newest, _compare(then, newest, as_of, check_every_days))


def _compare(expected: Standing, newest: Observation | None, as_of: date, check_every_days: int) -> str:
    if newest is None:
        return "not-observed"
    if as_of - newest.seen_on > timedelta(days=check_every_days):
        return "too-old"
    arrives = newest.result in ("arrived", "offered")
    if newest.reason in ("phased", "held"):
        return "as-expected"  # says nothing about eligibility
    if expected in (Standing.WITHHELD, Standing.ENDED):
        return "better" if arrives else "as-expected"
    return "as-expected" if arrives else "worse"


class Attribution(Struct, frozen=True):
    """What the requirements of one exception do to one update class.

    `alone` is the effect of them alone; `shared_with` are other unmet requirements whose effect is no better;
    `restored` is the standing if what the exception names were met.
    """

    exception: str
    update_class: UpdateClass
    alone: Standing
    shared_with: tuple[str, ...]
    restored: Standing


def attributions(
    platform: Platform, assessment: Assessment, exceptions: Iterable[tuple[str, frozenset[str]]]
) -> tuple[Attribution, ...]:
    """For each exception (id, requirements) and class: what it does alone, what it shares, what a fix would restore."""
    unmet = [f.requirement for f in assessment.findings if f.finding is Finding.UNMET]
    found = []
    for name, requirements in exceptions:
        for kind in UpdateClass:
            effects = {r.id: platform.effects_at(r, assessment.release).get(kind, Standing.NORMAL) for r in unmet}
            own = [effect for id_, effect in effects.items() if id_ in requirements]
            others = {id_: effect for id_, effect in effects.items() if id_ not in requirements}
            alone = max(own, key=lambda e: e.rank, default=Standing.NORMAL)
            if alone is Standing.NORMAL:
                continue
            shared = tuple(sorted(id_ for id_, effect in others.items() if effect.rank >= alone.rank))
            restored = max(others.values(), key=lambda e: e.rank, default=Standing.NORMAL)
            found.append(Attribution(name, kind, alone, shared, restored))
    return tuple(found)
