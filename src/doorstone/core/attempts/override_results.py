"""Experience: what attempts have shown of overrides, on one device and on its model.

In: attempts. Out: which overrides were refused on the device, and which seldom work on its model and release. Both are
ranked behind others that cover the same, and are named where one is chosen all the same.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date
from typing import NamedTuple

from msgspec import Struct, field

from doorstone.core.platforms.platform import Platform

LEAST_TRIED = 3  # fewer attempts say nothing of how often an override works


class OverrideTries(Struct, frozen=True):
    """One attempt. `refused_by` are requirement ids; empty where nobody said which check refused."""

    id: str
    release: str
    overrides: tuple[str, ...]
    outcome: str
    refused_by: tuple[str, ...]
    on: date


class AtRelease(Struct, frozen=True):
    """Override -> the remark on it, at one release."""

    refused: Mapping[str, str] = field(default_factory=dict)
    poor: Mapping[str, str] = field(default_factory=dict)

    def warnings(self, overrides: Iterable[str]) -> tuple[str, ...]:
        """The remarks on these."""
        return tuple(words for name in overrides for side in (self.refused, self.poor) if (words := side.get(name)))


Remarks = tuple[tuple[str, str, str], ...]
"""Remarks on overrides: release, override, what is to be known of it."""


class OverrideResults(Struct, frozen=True):
    """What earlier attempts say about overrides before the next attempt. Equal for devices with the same history."""

    refused: Remarks = ()
    poor: Remarks = ()

    def at(self, release: str) -> AtRelease:
        return AtRelease(
            {name: words for known, name, words in self.refused if known == release},
            {name: words for known, name, words in self.poor if known == release},
        )


NONE = OverrideResults()


def refused_on(platform: Platform, tries: Sequence[OverrideTries]) -> Remarks:
    """The overrides that were refused on one device and have not gone well there since. Attempts come by time."""
    found: dict[tuple[str, str], str] = {}
    for tried in tries:
        if tried.outcome == "refused":
            for name in _at_fault(platform, tried):
                by = f" by {', '.join(tried.refused_by)}" if tried.refused_by else ""
                found[tried.release, name] = f"{name} was refused on this device on {tried.on} ({tried.id}{by})"
        elif tried.outcome == "completed":
            for name in tried.overrides:
                found.pop((tried.release, name), None)
    return tuple((release, name, words) for (release, name), words in sorted(found.items()))


def _at_fault(platform: Platform, tried: OverrideTries) -> list[str]:
    """The overrides of an attempt that should have kept set-up from refusing: all, where nobody said which check."""
    return at_fault(platform, tried.overrides, tried.refused_by) if tried.refused_by else list(tried.overrides)


def at_fault(platform: Platform, overrides: Iterable[str], refused_by: Iterable[str]) -> list[str]:
    """The overrides that cover a requirement by which set-up refused. A refusal says nothing about the others."""
    known = {override.id: override for override in platform.overrides}
    return [name for name in overrides if name in known and known[name].covers & set(refused_by)]


class OverrideCount(NamedTuple):
    """How many attempts used an override on the way to a release on a model, and how many of them went well."""

    release: str
    override: str
    tried: int
    well: int


def seldom_works(model: str, counts: Iterable[OverrideCount]) -> Remarks:
    """The overrides that went well in fewer than half of at least three attempts on a model."""
    return tuple(
        (release, name, f"{name}: {well} of {times} attempts on {model} to {release} went well")
        for release, name, times, well in sorted(counts)
        if times >= LEAST_TRIED and well * 2 < times
    )
