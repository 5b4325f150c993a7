"""Explains one requirement of a platform in words: what it asks when, as what, and what is to be done about it.

In: a platform and a requirement. Out: one line per release, its fixes, and the overrides that cover it.
"""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from doorstone.core.conditions import in_full
from doorstone.core.platforms.platform import Fix, Override, Platform, Sort, Standing, UpdateClass


class AtRelease(Struct, frozen=True):
    """The requirement at one release. `effects` maps update class -> standing of a device without it."""

    release: str
    asks: str
    sort: Sort
    effects: Mapping[UpdateClass, Standing]
    overrides: tuple[str, ...]


class Explanation(Struct, frozen=True):
    requirement: str
    title: str
    because: str
    source: str
    enforced_at: tuple[str, ...]
    reported_as: tuple[str, ...]
    releases: tuple[AtRelease, ...]
    fixes: tuple[Fix, ...]
    overrides: tuple[Override, ...]


def explain(platform: Platform, requirement: str) -> Explanation:
    """Raises `KeyError` for a requirement that the platform never asks."""
    known = platform.requirement(requirement)
    covering = tuple(o for o in platform.overrides if requirement in o.covers)
    rows = []
    for release in platform.releases:
        asked = next((r for r in platform.requirements_at(release.id) if r.id == requirement), None)
        if asked is not None:
            rows.append(
                AtRelease(
                    release.id,
                    in_full(asked.condition),
                    platform.sheet_sort(asked, release.id),
                    platform.effects_at(asked, release.id),
                    tuple(o.id for o in covering if platform.in_span(release.id, o.since, o.until)),
                )
            )
    return Explanation(
        requirement,
        known.title,
        known.because,
        known.source,
        known.enforced_at,
        known.reported_as,
        tuple(rows),
        known.fixes,
        covering,
    )
