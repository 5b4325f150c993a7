"""Differences of two revisions of a sheet, in sentences.

In: the platform before and after. Out: one change per thing that differs, with the releases it concerns.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import date
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

from doorstone.core.conditions import in_full, order_free
from doorstone.core.facts import BUILT_IN, FactSpec
from doorstone.core.platforms.platform import MediaFile, Override, Platform, Requirement, Setting, Sort

_SORTS = {Sort.FLOOR: "a floor", Sort.CHECK: "an installer check", Sort.UNSORTED: "unsorted"}


class Change(Struct, frozen=True):
    """One difference: its kind (release, requirement, fix, override, gate, set, store, ...), of what, and in words."""

    kind: str
    subject: str
    words: str


def differences(old: Platform, new: Platform) -> tuple[Change, ...]:
    """Everything that `new` says otherwise than `old`, in the sheet's order. No attribute changes unseen."""
    return (
        *(Change("platform", new.id, words) for words in _others(old, new, _SHOWN_ELSEWHERE)),
        *_plain("fact", _own_facts(old), _own_facts(new), _no_words),
        *_releases(old, new),
        *_requirements(old, new),
        *_overrides(old, new),
        *_plain("gate", {g.id: g for g in old.gates}, {g.id: g for g in new.gates}, _gate_words),
        *_plain("follow-up", {f.id: f for f in old.followups}, {f.id: f for f in new.followups}, _followup_words),
        *_plain("set", {s.id: s for s in old.sets}, {s.id: s for s in new.sets}, _set_words),
        *(Change("store", "store", words) for words in _others(old.store, new.store)),
        *_lists(old, new),
    )


_SHOWN_ELSEWHERE = frozenset(
    {"id", "releases", "requirements", "overrides", "gates", "followups", "store", "specs", "lists", "models", "sets"}
)


def _own_facts(platform: Platform) -> dict[str, FactSpec]:
    return {name: spec for name, spec in platform.specs.items() if BUILT_IN.get(name) != spec}


def _no_words(was: Any, now: Any) -> Iterator[str]:
    yield from ()


def _others(was: Any, now: Any, besides: frozenset[str] = frozenset()) -> Iterator[str]:
    """What differs in any attribute of which nothing has been said: in plain words, the old value too."""
    before = asdict(was)
    for name, held in asdict(now).items():
        if name not in besides and held != before[name]:
            yield f"{name.replace('_', ' ')}: {_plainly(held)}, was {_plainly(before[name])}"


def _plainly(value: Any) -> str:
    """A value of a sheet as people read it; what is long by its beginning and its digest."""
    if isinstance(value, bool):
        text = "yes" if value else "no"
    elif isinstance(value, bytes):
        text = f"{len(value)} bytes, SHA-256 {hashlib.sha256(value).hexdigest()[:16]}"
    elif isinstance(value, frozenset | set):
        text = ", ".join(sorted(map(_plainly, value)))
    elif isinstance(value, tuple | list):
        text = "; ".join(map(_plainly, value))
    elif isinstance(value, Mapping):
        text = "; ".join(f"{key} = {_plainly(held)}" for key, held in sorted(value.items(), key=lambda e: str(e[0])))
    elif isinstance(value, Struct):
        text = ", ".join(f"{name} {_plainly(held)}" for name, held in asdict(value).items())
    else:
        text = str(value)
    if len(text) > _MOST_SHOWN:
        text = f"{text[:_MOST_SHOWN]}… ({len(text)} letters, SHA-256 {hashlib.sha256(text.encode()).hexdigest()[:16]})"
    return text or "nothing"


_MOST_SHOWN = 200


def _day(day: date | None) -> str:
    return day.isoformat() if day else "never"


def _releases(old: Platform, new: Platform) -> Iterator[Change]:
    before, after = {r.id: r for r in old.releases}, {r.id: r for r in new.releases}
    for name in after:
        if name not in before:
            yield Change("release", name, f"added, published {after[name].published}")
    for name in before:
        if name not in after:
            yield Change("release", name, "no longer in the sheet")
    for name in (name for name in after if name in before):
        one, other = before[name], after[name]
        if one.published != other.published:
            yield Change("release", name, f"published {other.published}, was {one.published}")
        for edition in sorted({*one.servicing_ends, *other.servicing_ends}):
            was, now = one.servicing_ends.get(edition), other.servicing_ends.get(edition)
            if was != now:
                yield Change("release", name, f"{edition} is serviced through {_day(now)}, was {_day(was)}")
        if one.upgrade_from != other.upgrade_from:
            was_from, now_from = ", ".join(one.upgrade_from) or "none", ", ".join(other.upgrade_from) or "none"
            yield Change("release", name, f"can be reached from {now_from}, was {was_from}")
        if one.notice != other.notice:
            yield Change("release", name, "set-up's notice has another text")
        if one.rollback_days != other.rollback_days:
            yield Change("release", name, f"{other.rollback_days} days of rollback, was {one.rollback_days}")
        named = frozenset({"id", "published", "servicing_ends", "upgrade_from", "notice", "rollback_days"})
        yield from (Change("release", name, words) for words in _others(one, other, named))
    order = [[r.id for r in platform.releases if r.id in before and r.id in after] for platform in (old, new)]
    if order[0] != order[1]:
        yield Change("release", new.id, f"the order is {', '.join(order[1])}, was {', '.join(order[0])}")


def _requirements(old: Platform, new: Platform) -> Iterator[Change]:
    shared = [r.id for r in new.releases if old.has(r.id)]
    before, after = _asked(old, shared), _asked(new, shared)
    for name in dict.fromkeys([*after, *before]):
        was, now = before.get(name, {}), after.get(name, {})
        if not was or not now:
            known = now or was
            title = next(iter(known.values())).title
            words = f"added: {title}" if now else f"no longer asked: {title}"
            yield Change("requirement", name, f"{words}, {_at(known)}")
            continue
        yield from _asked_otherwise(name, was, now)
        both = [release for release in shared if release in was and release in now]
        for aspect in (_condition_words, _sort_words, _effect_words):
            yield from _by_release("requirement", name, both, was, now, aspect, old, new)
        yield from _fixes(name, next(iter(was.values())), next(iter(now.values())))
        others = [named for release in both for named in _others(was[release], now[release], _SAID_BY_RELEASE)]
        yield from (Change("requirement", name, named) for named in dict.fromkeys(others))


_SAID_BY_RELEASE = frozenset({"id", "since", "until", "condition", "sorts", "effects", "fixes"})


def _asked(platform: Platform, releases: Iterable[str]) -> dict[str, dict[str, Requirement]]:
    found: dict[str, dict[str, Requirement]] = {}
    for release in releases:
        for requirement in platform.requirements_at(release):
            found.setdefault(requirement.id, {})[release] = requirement
    return found


def _at(releases: Iterable[str]) -> str:
    return "at " + ", ".join(releases)


def _asked_otherwise(name: str, was: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[Change]:
    if more := [release for release in now if release not in was]:
        yield Change("requirement", name, f"now also asked {_at(more)}")
    if fewer := [release for release in was if release not in now]:
        yield Change("requirement", name, f"no longer asked {_at(fewer)}")


_Aspect = Callable[[Platform, Requirement, str], str]


def _condition_words(platform: Platform, requirement: Requirement, release: str) -> str:
    return f"asks {in_full(requirement.condition)}"


def _sort_words(platform: Platform, requirement: Requirement, release: str) -> str:
    return f"is {_SORTS[platform.sheet_sort(requirement, release)]}"


def _effect_words(platform: Platform, requirement: Requirement, release: str) -> str:
    effects = platform.effects_at(requirement, release)
    held = ", ".join(f"{kind} updates {standing}" for kind, standing in sorted(effects.items()))
    return f"without it: {held or 'every update as usual'}"


def _by_release(
    kind: str,
    name: str,
    releases: Iterable[str],
    was: Mapping[str, Requirement],
    now: Mapping[str, Requirement],
    aspect: _Aspect,
    old: Platform,
    new: Platform,
) -> Iterator[Change]:
    """One change per pair of words, with every release that it holds for."""
    found: dict[tuple[str, str], list[str]] = {}
    for release in releases:
        pair = aspect(old, was[release], release), aspect(new, now[release], release)
        if aspect is _condition_words and _same_in_another_order(was[release], now[release]):
            continue
        if pair[0] != pair[1]:
            found.setdefault(pair, []).append(release)
    for (before, after), where in found.items():
        shared = 0
        while " " in after and before.split(" ")[: shared + 1] == after.split(" ")[: shared + 1]:
            shared += 1
        yield Change(kind, name, f"{_at(where)}: {after}, was {' '.join(before.split(' ')[shared:])}")


def _same_in_another_order(was: Requirement, now: Requirement) -> bool:
    """Whether two conditions differ in nothing but the order of their parts."""
    one, other = was.condition, now.condition
    tolerances = [sorted((leaf.fact, leaf.op, leaf.tolerance) for leaf in side.leaves()) for side in (one, other)]
    return order_free(one) == order_free(other) and tolerances[0] == tolerances[1]


def _fixes(name: str, was: Requirement, now: Requirement) -> Iterator[Change]:
    before, after = {f.title: f for f in was.fixes}, {f.title: f for f in now.fixes}
    orders = [[title for title in side if title in before and title in after] for side in (before, after)]
    if orders[0] != orders[1]:
        yield Change("fix", name, f"the order of fixes is {'; '.join(orders[1])}, was {'; '.join(orders[0])}")
    for title in dict.fromkeys([*after, *before]):
        one, other = before.get(title), after.get(title)
        if one is None or other is None:
            yield Change("fix", name, f"{'fix added' if other else 'fix gone'}: {title}")
            continue
        if (one.cost, one.minutes) != (other.cost, other.minutes):
            words = f"{other.minutes} min and {other.cost}, was {one.minutes} min and {one.cost}"
            yield Change("fix", name, f"{title}: {words}")
        if in_full(one.when) != in_full(other.when):
            yield Change("fix", name, f"{title}: applies when {in_full(other.when)}, was {in_full(one.when)}")
        named = frozenset({"title", "cost", "minutes", "when"})
        yield from (Change("fix", name, f"{title}: {words}") for words in _others(one, other, named))


def _overrides(old: Platform, new: Platform) -> Iterator[Change]:
    yield from _plain("override", {o.id: o for o in old.overrides}, {o.id: o for o in new.overrides}, _override_words)


def _override_words(was: Override, now: Override) -> Iterator[str]:
    if was.until != now.until:
        yield (
            f"no longer works from {now.until} on, was {was.until or 'without an end'}"
            if now.until
            else (f"works without an end, was until {was.until}")
        )
    if was.since != now.since:
        yield f"works from {now.since}, was {was.since}"
    if gained := sorted(now.covers - was.covers):
        yield f"now also covers {', '.join(gained)}"
    if lost := sorted(was.covers - now.covers):
        yield f"no longer covers {', '.join(lost)}"
    if was.routes != now.routes:
        yield f"for the routes {', '.join(sorted(now.routes))}, was {', '.join(sorted(was.routes))}"
    if in_full(was.needs) != in_full(now.needs):
        yield f"needs {in_full(now.needs)}, was {in_full(was.needs)}"
    yield from _settings(was.settings, now.settings)
    yield from _media_files(was.files, now.files)
    if (was.origin, was.weight) != (now.origin, now.weight):
        before = f"{was.origin.name.lower()} origin, weight {was.weight}"
        yield f"{now.origin.name.lower()} origin, weight {now.weight}, was {before}"
    if was.conflicts != now.conflicts:
        yield f"conflicts with {', '.join(sorted(now.conflicts)) or 'nothing'}"
    named = {"id", "until", "since", "covers", "routes", "needs", "settings", "files", "origin", "weight", "conflicts"}
    yield from _others(was, now, frozenset(named))


def _settings(was: Iterable[Setting], now: Iterable[Setting]) -> Iterator[str]:
    """Each setting that came, went or has another value."""
    before, after = ({(s.place, s.path, s.name): s for s in side} for side in (was, now))
    for key in dict.fromkeys([*after, *before]):
        one, other = before.get(key), after.get(key)
        name = f"{key[1]}/{key[2]} ({key[0]})"
        if one is None or other is None:
            yield f"setting {name} {'added: ' + _plainly(other.value) if other else 'gone'}"
        elif one != other:
            kind = f", a {other.type}, was a {one.type}" if one.type != other.type else ""
            yield f"setting {name}: {_plainly(other.value)}, was {_plainly(one.value)}{kind}"


def _media_files(was: Iterable[MediaFile], now: Iterable[MediaFile]) -> Iterator[str]:
    """Each file of the media that is changed otherwise, by what is in it."""
    before, after = ({f.path: f for f in side} for side in (was, now))
    for path in dict.fromkeys([*after, *before]):
        one, other = before.get(path), after.get(path)
        if one is None or other is None:
            yield f"file {path} {'is now ' + other.change if other else 'is no longer changed'}"
        elif one != other:
            yield f"file {path}: {_file_words(other)}, was {_file_words(one)}"


def _file_words(file: MediaFile) -> str:
    held = f" with {_plainly(file.data)}" if file.change != "removed" else ""
    return f"{file.change}{held}" + (f" in place of {file.before[:16]}" if file.before else "")


def _set_words(was: Any, now: Any) -> Iterator[str]:
    yield from _settings(was.settings, now.settings)
    yield from _others(was, now, frozenset({"id", "settings"}))


def _gate_words(was: Any, now: Any) -> Iterator[str]:
    if in_full(was.condition) != in_full(now.condition):
        yield f"asks {in_full(now.condition)}, was {in_full(was.condition)}"
    if was.severity != now.severity:
        yield f"{now.severity}s, was {was.severity}"
    if was.routes != now.routes:
        yield f"for the routes {', '.join(sorted(now.routes))}, was {', '.join(sorted(was.routes))}"
    if str(was.critical) != str(now.critical):
        same = "the same"
        yield f"asks {now.critical or same} of critical devices, was {was.critical or same}"
    if was.critical_severity != now.critical_severity:
        before = was.critical_severity or was.severity
        yield f"{now.critical_severity or now.severity}s before critical devices, was {before}"
    named = {"id", "condition", "severity", "routes", "critical", "critical_severity"}
    yield from _others(was, now, frozenset(named))


def _followup_words(was: Any, now: Any) -> Iterator[str]:
    if was.todo != now.todo:
        yield f"now says: {now.todo}"
    if was.blocking != now.blocking:
        yield "now blocks what follows" if now.blocking else "no longer blocks what follows"
    yield from _others(was, now, frozenset({"id", "todo", "blocking"}))


def _plain(
    kind: str, was: Mapping[str, Any], now: Mapping[str, Any], words: Callable[[Any, Any], Iterator[str]]
) -> Iterator[Change]:
    for name in dict.fromkeys([*now, *was]):
        one, other = was.get(name), now.get(name)
        if one is None:
            yield Change(kind, name, f"added: {_named(other)}")
        elif other is None:
            yield Change(kind, name, f"gone: {_named(one)}")
        else:
            named = list(words(one, other)) or ([] if words is not _no_words else list(_others(one, other)))
            yield from (Change(kind, name, one_of) for one_of in named)


def _named(thing: Any) -> str:
    return str(getattr(thing, "title", "")) or _plainly(thing)


def _lists(old: Platform, new: Platform) -> Iterator[Change]:
    for name in dict.fromkeys([*new.lists, *old.lists]):
        was, now = old.lists.get(name, frozenset()), new.lists.get(name, frozenset())
        if added := sorted(now - was):
            yield Change("list", name, f"{len(added)} added: {_some(added)}")
        if removed := sorted(was - now):
            yield Change("list", name, f"{len(removed)} removed: {_some(removed)}")


def _some(names: list[str], most: int = 8) -> str:
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")
