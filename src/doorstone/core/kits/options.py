"""What a kit is asked for, which exceptions it may rest on, and which devices can share one."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import date

from msgspec import Struct

from doorstone.core.errors import InvalidInputError
from doorstone.core.exceptions.life import ExceptionTerms
from doorstone.core.platforms.platform import Platform, Route, SettingsSet

CARRY_OVER = ("everything", "files", "nothing")
MOST_DEVICES = 500


class KitOptions(Struct, frozen=True):
    """What a kit is asked for. `waive` maps gate -> why its warning is waived.

    `media` names the media to use, the one that fits best if empty; `sets` the settings for after the upgrade.
    """

    devices: tuple[str, ...]
    release: str = ""
    route: str = "in-place"
    carry_over: str = "everything"
    waive: Mapping[str, str] | None = None
    media: str = ""
    sets: tuple[str, ...] = ()


def check_options(wanted: KitOptions) -> None:
    """Raises `InvalidInputError` for options that no kit can have, whatever the sheet says."""
    route, carry_over = wanted.route, wanted.carry_over
    if not wanted.devices or len(wanted.devices) > MOST_DEVICES:
        raise InvalidInputError(f"A kit is for 1 to {MOST_DEVICES} devices", "Name them")
    if carry_over not in CARRY_OVER or (route == Route.CLEAN) != (carry_over == "nothing"):
        raise InvalidInputError(
            f"The {route} route cannot carry over {carry_over!r}", "In place: everything or files. Clean: nothing"
        )
    for gate, why in (wanted.waive or {}).items():
        if not 5 <= len(why.strip()) <= 300 or not why.isprintable():
            raise InvalidInputError(
                f"To waive {gate} takes a reason", "Say in a sentence why the warning does not matter"
            )


def check_waived(platform: Platform, waived: Iterable[str]) -> None:
    """Raises `InvalidInputError` for a gate that is not in the sheet."""
    known = {gate.id for gate in platform.gates}
    if unknown := [gate for gate in waived if gate not in known]:
        raise InvalidInputError(f"There is no gate {unknown[0]!r}", f"There is: {', '.join(sorted(known))}")


def settings_sets(platform: Platform, names: Collection[str]) -> tuple[SettingsSet, ...]:
    """These settings sets of the sheet, by id. Raises `InvalidInputError` for an unknown one."""
    known = {one.id: one for one in platform.sets}
    if unknown := [name for name in names if name not in known]:
        there = ", ".join(sorted(known)) or "none"
        raise InvalidInputError(f"{platform.name} has no settings set {unknown[0]!r}", f"There is: {there}")
    return tuple(known[name] for name in sorted(set(names)))


class KitPermission(Struct, frozen=True):
    """What a device's exceptions permit a kit: requirement -> the exception that names it; those that are used.

    `stale` are exceptions that would be needed and whose approval needs a second look, each with what changed.
    """

    excepted: Mapping[str, str]
    stale: Mapping[str, Sequence[str]]
    used: tuple[str, ...]


def kit_permission(
    held: Iterable[tuple[ExceptionTerms, Sequence[str]]],
    platform: Platform,
    release: str,
    unmet: Collection[str],
    as_of: date,
) -> KitPermission:
    """The exceptions of a device that allow a kit for the requirements it fails. `held` pairs each with why it is
    stale.
    """
    excepted: dict[str, str] = {}
    stale: dict[str, Sequence[str]] = {}
    used: list[str] = []
    for terms, changes in sorted(held, key=lambda pair: pair[0].id):
        names = set(unmet) & terms.requirements
        if not names or not terms.in_force(as_of) or not terms.reaches(platform, release):
            continue
        if changes:
            stale[terms.id] = changes
        else:
            used.append(terms.id)
            excepted |= dict.fromkeys(names, terms.id)
    needed = {} if set(unmet) <= set(excepted) else stale
    return KitPermission(excepted, needed, tuple(used))


class SharedCase(Struct, frozen=True):
    """Devices that can share a kit: the same overrides, patches and media carry each of them."""

    devices: tuple[str, ...]
    overrides: tuple[str, ...]
    media: str = ""

    @property
    def needs(self) -> str:
        verb = "they need" if len(self.devices) > 1 else "it needs"
        words = f"{verb} {' and '.join(self.overrides) or 'no override'}"
        return words + (f", from {self.media}" if self.media else "")


class KitNeeds(Struct, frozen=True):
    """What one device needs in a kit."""

    device: str
    overrides: tuple[str, ...]
    patches: tuple[str, ...]
    media: str


def fewest_kits(needs: Iterable[KitNeeds]) -> list[SharedCase]:
    """One kit for each distinct set of overrides, patches and media, the one for most devices first."""
    groups: dict[tuple[tuple[str, ...], tuple[str, ...], str], list[str]] = {}
    for one in needs:
        groups.setdefault((one.overrides, one.patches, one.media), []).append(one.device)
    found = [SharedCase(tuple(devices), ids, media) for (ids, _, media), devices in groups.items()]
    return sorted(found, key=lambda case: (-len(case.devices), case.devices))
