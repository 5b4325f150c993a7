"""Platforms: what a sheet says once it is read. Values only; which apply at a release is asked of them here."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from datetime import date
from decimal import Decimal
from enum import IntEnum, StrEnum
from functools import cached_property
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from doorstone.core.conditions import ALWAYS, Condition
from doorstone.core.facts import FactSpec, FactValue


class Sort(StrEnum):
    FLOOR = "floor"
    CHECK = "installer-check"
    UNSORTED = "unsorted"


class Route(StrEnum):
    OFFERED = "offered"
    IN_PLACE = "in-place"
    CLEAN = "clean"


class UpdateClass(StrEnum):
    SECURITY = "security"
    DRIVER = "driver"
    RELEASE = "release"


class Standing(StrEnum):
    """The effect on one update class, from best to worst."""

    NORMAL = "normal"
    UNPROMISED = "unpromised"
    WITHHELD = "withheld"
    ENDED = "ended"  # of every class, once the release is out of servicing; never the effect of a requirement

    @property
    def rank(self) -> int:
        return ("normal", "unpromised", "withheld", "ended").index(self.value)


class Origin(IntEnum):
    """Where an override comes from; lower is preferred."""

    VENDOR = 0
    FIELD = 1
    OWN = 2


class Release(Struct, frozen=True):
    """`servicing_ends` maps edition -> last serviced day. `notice` is what set-up makes one accept, word for word."""

    id: str
    published: date
    servicing_ends: Mapping[str, date]
    upgrade_from: tuple[str, ...] = ()
    rollback_days: int = 10
    notice: str = ""


class Fix(Struct, frozen=True):
    """An action that makes a requirement met. `gives` are the facts after it; `minutes` of labour; `cost` in money."""

    title: str
    kind: str
    when: Condition
    gives: Mapping[str, FactValue]
    minutes: int = 0
    cost: Decimal = Decimal(0)


class Effect(Struct, frozen=True):
    """What running with the requirement unmet does to updates, from which release on."""

    since: str
    classes: Mapping[UpdateClass, Standing]


class SortRule(Struct, frozen=True):
    since: str
    sort: Sort


class Requirement(Struct, frozen=True):
    id: str
    title: str
    since: str
    until: str | None
    condition: Condition
    enforced_at: tuple[str, ...]
    sorts: tuple[SortRule, ...]
    because: str
    source: str = ""
    fixes: tuple[Fix, ...] = ()
    effects: tuple[Effect, ...] = ()
    reported_as: tuple[str, ...] = ()
    weight: int = 3
    """How much it matters to run without it, 1 least to 9 most."""


class Setting(Struct, frozen=True):
    """One setting of an override. `type` is text, integer, flag or list; `place` names a place of the store."""

    path: str
    name: str
    type: str
    value: Any
    place: str


class MediaFile(Struct, frozen=True):
    """One file of the set-up media that an override changes: added, emptied, replaced or removed.

    `data` is what it holds afterwards. `before` is the SHA-256 of what must be there first; empty for an added one.
    """

    path: str
    change: str
    data: bytes
    before: str = ""

    @property
    def after(self) -> str:
        """The SHA-256 of what is there afterwards; empty where the file is removed."""
        return "" if self.change == "removed" else hashlib.sha256(self.data).hexdigest()


class Loader(Struct, frozen=True):
    """A loader: placed on the stick before set-up, on the internal disk after it. Paths below the root of each."""

    stick: str
    disk: str
    data: bytes


class SettingsSet(Struct, frozen=True):
    """The organisation's own settings for after an upgrade. `in_place` says by facts whether they are there already."""

    id: str
    title: str
    why: str
    settings: tuple[Setting, ...]
    in_place: Condition | None = None


class Override(Struct, frozen=True):
    """A means by which set-up is told not to refuse. Works from `since` on and no longer at `until`."""

    id: str
    title: str
    covers: frozenset[str]
    routes: frozenset[Route]
    since: str
    until: str | None
    kind: str
    origin: Origin
    weight: int
    lasting: bool = True
    restart: str = "none"
    needs: Condition = ALWAYS
    conflicts: frozenset[str] = frozenset()
    cautions: tuple[str, ...] = ()
    expect: tuple[str, ...] = ()
    settings: tuple[Setting, ...] = ()
    arguments: tuple[str, ...] = ()
    files: tuple[MediaFile, ...] = ()
    loader: Loader | None = None


class Gate(Struct, frozen=True):
    id: str
    title: str
    condition: Condition
    severity: str  # stop or warn
    routes: frozenset[Route]
    todo: str
    critical: Condition | None = None  # what is asked instead where the organisation lives on the device
    critical_severity: str = ""  # and how grave it is there; as elsewhere if empty

    def for_device(self, *, critical: bool) -> Gate:
        """The gate as it stands before a device: a stricter one before a critical device, if the sheet has one."""
        if not critical:
            return self
        severity = self.critical_severity or self.severity
        return replace(self, condition=self.critical or self.condition, severity=severity)


class FollowUp(Struct, frozen=True):
    id: str
    title: str
    todo: str
    blocking: bool = False
    when: Condition = ALWAYS
    ends_rollback: bool = False
    due_days: int = 1


class ModelRow(Struct, frozen=True):
    """What a vendor ties to a machine model: the last release of its own list, the last that is possible at all.

    An empty release means none. `patches` are put in after each upgrade.
    """

    model: str
    last: str
    possible: str
    patches: tuple[str, ...] = ()


class Store(Struct, frozen=True):
    """How a platform keeps settings; `places` maps a place to where it is below the system's root.

    `drop-in-ini`: a folder of INI files, read in order. `json-file`: one JSON file, which `shipped` holds as the maker
    ships it. `templates`: one whole file, made from the text in `templates`.
    """

    kind: str
    places: Mapping[str, str]
    set_up: str = "set-up"
    shipped: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    templates: Mapping[str, str] = field(default_factory=dict)


class Platform(Struct, frozen=True, dict=True):
    """One platform as its sheet describes it. `releases` are in upgrade order."""

    id: str
    name: str
    maker: str
    editions: tuple[str, ...]
    releases: tuple[Release, ...]
    requirements: tuple[Requirement, ...]
    overrides: tuple[Override, ...]
    gates: tuple[Gate, ...]
    followups: tuple[FollowUp, ...]
    store: Store
    specs: Mapping[str, FactSpec]
    lists: Mapping[str, frozenset[str]] = field(default_factory=dict)
    models: Mapping[str, ModelRow] = field(default_factory=dict)
    sets: tuple[SettingsSet, ...] = ()

    @cached_property
    def _places(self) -> Mapping[str, int]:
        return {release.id: at for at, release in enumerate(self.releases)}

    @cached_property
    def _asked(self) -> dict[str, tuple[Requirement, ...]]:
        return {}

    def index(self, release: str) -> int:
        """The place of a release in the upgrade order. Raises `KeyError` for an unknown one."""
        return self._places[release]

    def has(self, release: str) -> bool:
        return release in self._places

    def release(self, release: str) -> Release:
        return self.releases[self.index(release)]

    def in_span(self, release: str, since: str, until: str | None) -> bool:
        """Whether since <= release < until in upgrade order."""
        at = self.index(release)
        return self.index(since) <= at and (until is None or at < self.index(until))

    def requirements_at(self, release: str) -> tuple[Requirement, ...]:
        """What a release asks for, in the sheet's order. Raises `KeyError` for an unknown release."""
        found = self._asked.get(release)
        if found is None:
            found = tuple([r for r in self.requirements if self.in_span(release, r.since, r.until)])
            self._asked[release] = found
        return found

    def requirement(self, name: str) -> Requirement:
        """Raises `KeyError` for an unknown requirement."""
        for known in self.requirements:
            if known.id == name:
                return known
        raise KeyError(name)

    def override(self, name: str) -> Override:
        for known in self.overrides:
            if known.id == name:
                return known
        raise KeyError(name)

    def sheet_sort(self, requirement: Requirement, release: str) -> Sort:
        """The sheet's own word at a release: the last rule that has begun, else unsorted."""
        at = self.index(release)
        answer = Sort.UNSORTED
        for rule in sorted(requirement.sorts, key=lambda rule: self.index(rule.since)):
            if self.index(rule.since) <= at:
                answer = rule.sort
        return answer

    def effects_at(self, requirement: Requirement, release: str) -> Mapping[UpdateClass, Standing]:
        """The effects in force at a release: per class the last rule that has begun."""
        at = self.index(release)
        answer: dict[UpdateClass, Standing] = {}
        for effect in sorted(requirement.effects, key=lambda effect: self.index(effect.since)):
            if self.index(effect.since) <= at:
                answer.update(effect.classes)
        return answer

    def path_gates(self, route: Route) -> tuple[Gate, ...]:
        """The gates that open or close a route: stops of this route alone, on facts that neither pass nor age."""
        return tuple(
            gate
            for gate in self.gates
            if gate.severity == "stop"
            and gate.routes == {route}
            and all(self._lasts(name) for name in gate.condition.facts())
        )

    def _lasts(self, fact: str) -> bool:
        spec = self.specs[fact]
        return spec.lasting and spec.type != "date" and not fact.startswith(("media.", "upgrade."))


def target_release(platform: Platform, today: date) -> str:
    """The release to move to unless another is named: the last one that is published."""
    out = [r.id for r in platform.releases if r.published <= today]
    return out[-1] if out else platform.releases[0].id
