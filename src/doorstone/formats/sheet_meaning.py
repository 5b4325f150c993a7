"""Contradictions in a well-formed sheet: spans that end before they begin, one name for two releases, useless fixes.

In: the document and the platform that was made of it. Out: every such place, with the hint.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date

from doorstone.core.conditions import Outcome
from doorstone.core.platforms.platform import Platform, Requirement, Sort
from doorstone.formats.sheet_schema import RequirementPart, SheetDocument

Path = tuple[str | int, ...]
Problem = tuple[Path, str, str]
OF_THE_MEDIA = ("media.", "upgrade.")


def contradictions(document: SheetDocument, platform: Platform) -> Iterator[Problem]:
    """Every place that cannot be meant: (path, what is wrong, the hint)."""
    yield from _releases(document)
    for at, part in enumerate(document.requirement):
        yield from _span(platform, ("requirement", at), part.from_, part.until)
        yield from _dated(platform, at, part)
        yield from _requirement(platform, at, part)
    for at, override in enumerate(document.override):
        path: Path = ("override", at)
        yield from _span(platform, path, override.from_, override.until)
        if override.id in override.conflicts:
            yield (*path, "conflicts"), "It conflicts with itself", "Leave its own id out"
        for name in sorted(set(override.covers)):
            if _only_floor(platform, name, override.from_, override.until):
                words = f"It covers {name}, which is a floor wherever it works: no override lifts a floor"
                yield (*path, "covers"), words, "Leave it out, or sort the requirement as an installer-check"


def _releases(document: SheetDocument) -> Iterator[Problem]:
    editions = document.platform.editions
    for at, part in enumerate(document.release):
        path: Path = ("release", at, "servicing_ends")
        for edition in editions:
            ends = part.servicing_ends.get(edition)
            if ends is None:
                words = f"Release {part.id} says nothing of edition {edition}"
                yield path, words, f"Add {edition} = and its last serviced day"
            elif ends < part.published:
                words = f"Servicing of {part.id} for {edition} ends {ends}, before it is published on {part.published}"
                yield path, words, "Correct one of the two days"


def _span(platform: Platform, path: Path, since: str, until: str | None) -> Iterator[Problem]:
    if until is not None and platform.index(until) <= platform.index(since):
        words = f"It ends at release {until}, which does not come after {since}: it would never count"
        yield (*path, "until"), words, "`until` names the first release on which it no longer counts"


def _dated(platform: Platform, at: int, part: RequirementPart) -> Iterator[Problem]:
    """Sorts and effects: each from one release, inside the requirement's own span."""
    for word, rules in (("sort", [r.from_ for r in part.sort]), ("effect", [e.from_ for e in part.effect])):
        for number, release in enumerate(rules):
            path: Path = ("requirement", at, word, number, "from") if word == "effect" else ("requirement", at, word)
            if release in rules[:number]:
                yield path, f"Two {word}s from release {release}: only one can count", "Leave one of them out"
            if not platform.in_span(release, part.from_, part.until):
                until = f" and ends at {part.until}" if part.until else ""
                words = f"The {word} from {release} never counts: {part.id} begins at {part.from_}{until}"
                yield path, words, "Choose a release at which it is asked for"
    for number, effect in enumerate(part.effect):
        if effect.security is None and effect.driver is None and effect.release is None:
            yield ("requirement", at, "effect", number), "The effect says nothing", "Name security, driver or release"


def _requirement(platform: Platform, at: int, part: RequirementPart) -> Iterator[Problem]:
    if part.condition is None:
        return
    requirement = next(r for r in platform.requirements if r.id == part.id)
    path: Path = ("requirement", at)
    if media := sorted(name for name in requirement.condition.facts() if name.startswith(OF_THE_MEDIA)):
        words = f"It looks at {media[0]}, which is of the media, not of the device"
        yield (*path, "condition"), words, "Write a gate: gates look at the media that a kit is made with"
    for number, words in _idle_fixes(requirement):
        yield (*path, "fix", number, "gives"), words, "Give the fact that the condition asks for"


def _idle_fixes(requirement: Requirement) -> Iterator[tuple[int, str]]:
    """Fixes after which the requirement is not met any more than before."""
    opening = set[str]().union(*(fix.when.facts() for fix in requirement.fixes))
    for number, fix in enumerate(requirement.fixes):
        looked_at = set(fix.gives) & requirement.condition.facts()
        if not looked_at and not set(fix.gives) & opening:
            yield number, f"“{fix.title}” gives nothing that {requirement.id} looks at"
        elif looked_at and requirement.condition.outcome(dict(fix.gives), date.min) is Outcome.UNMET:
            yield number, f"After “{fix.title}” {requirement.id} is still unmet: {requirement.condition}"


def _only_floor(platform: Platform, name: str, since: str, until: str | None) -> bool:
    """Whether a requirement is a floor at every release at which an override works and it is asked for."""
    sorts: Sequence[Sort] = [
        platform.sheet_sort(requirement, release.id)
        for release in platform.releases
        if platform.in_span(release.id, since, until)
        for requirement in platform.requirements_at(release.id)
        if requirement.id == name
    ]
    return bool(sorts) and set(sorts) == {Sort.FLOOR}
