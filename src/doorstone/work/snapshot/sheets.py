"""Sheets: the platforms as they stand, each by its newest revision and what failure messages have added to it."""

from __future__ import annotations

import re
from collections.abc import Mapping

from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.conditions import Leaf
from doorstone.core.facts import FactSpec, FactType
from doorstone.core.platforms.platform import Platform, Requirement, Route
from doorstone.core.platforms.summary import Explanation, explain
from doorstone.formats.sheet import read_sheet
from doorstone.store import platforms as store
from doorstone.store.devices import profiles
from doorstone.store.readings import failure_messages
from doorstone.store.readings.failure_messages import ReportedRow
from doorstone.work.context.cache import Cache
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError


class Sheet(Struct, frozen=True):
    """A loaded sheet and the platform that it describes.

    `reported` are the requirements that only failure messages know; `requirement_by_message` maps a text that the
    sheet foresees, plain, to its requirement.
    """

    revision: int
    sha256: str
    text: str
    lists: Mapping[str, str]
    loaded_at: str
    loaded_by: str
    platform: Platform
    reported: frozenset[str]
    requirement_by_message: Mapping[str, str]


def all_sheets(context: Context) -> dict[str, Sheet]:
    """The newest sheet of every platform by platform id; each is read once and remembered."""
    return context.cached(("sheets",), context.stamp().ledger, lambda: _all_sheets(context))


def _all_sheets(context: Context) -> dict[str, Sheet]:
    with context.database.read() as db:
        rows = store.every_newest(db)
        reported = failure_messages.reported(db)
    sheets = {}
    for row in rows:
        mine = [r for r in reported if r.platform == row.platform]

        def read(row: store.SheetRow = row, mine: list[ReportedRow] = mine) -> Sheet:
            return sheet_of(row, mine, parsed(row.text, tuple(sorted(row.lists.items())), row.platform))

        key = ("sheet", row.platform)
        rests_on = row.revision, row.sha256, tuple((r.id, r.title, r.since) for r in mine)
        sheets[row.platform] = context.cache.get(key, rests_on, read, wait=False)
    return sheets


SHEETS = Cache(64)


def parsed(text: str, lists: tuple[tuple[str, str], ...], name: str) -> Platform:
    """The sheet in a text and the files beside it. Each text is read once."""
    return SHEETS.get((text, lists, name), None, lambda: read_sheet(text, dict(lists), name))


def sheet_of(row: store.SheetRow, reported: list[ReportedRow], read: Platform | None = None) -> Sheet:
    """A stored revision, read, with the requirements that failure messages have added."""
    platform = with_reported(read or read_sheet(row.text, row.lists, row.platform), reported)
    by_message = {plain_text(text): r.id for r in platform.requirements for text in r.reported_as}
    return Sheet(
        row.revision,
        row.sha256,
        row.text,
        row.lists,
        row.loaded_at,
        row.loaded_by,
        platform,
        frozenset(r.id for r in reported),
        by_message,
    )


def with_reported(platform: Platform, rows: list[ReportedRow]) -> Platform:
    """The platform and, for each failure message that nobody foresaw, a requirement that is unmet where it is told."""
    specs, added = dict(platform.specs), []
    for row in rows:
        if not platform.has(row.since) or any(r.id == row.id for r in platform.requirements):
            continue
        spec = FactSpec(f"reported.{row.id}", FactType.FLAG, title=f"Reported: {row.title}")
        specs[spec.name] = spec
        condition = Leaf(spec.name, "is", False, spec)
        added.append(Requirement(row.id, row.title, row.since, None, condition, ("assessor",), (), row.because))
    return replace(platform, specs=specs, requirements=(*platform.requirements, *added))


def plain_text(text: str) -> str:
    """A failure message without what does not matter: case, spaces, a full stop at its end."""
    return re.sub(r"\s+", " ", text).strip().rstrip(".").lower()


def by_size(context: Context) -> list[tuple[Sheet, int]]:
    """Every sheet with the number of its devices, the largest platform first."""
    with context.database.read() as db:
        sizes = profiles.devices_by_platform(db)
    found = [(sheet, sizes.get(name, 0)) for name, sheet in all_sheets(context).items()]
    return sorted(found, key=lambda pair: (-pair[1], pair[0].platform.id))


def files_of(context: Context, platform: str) -> dict[str, str]:
    """A platform's sheet and the files that stand beside it, by name, as they were loaded. Raises `MissingError`."""
    sheet = get_sheet(context, platform)
    return {f"{platform}.toml": sheet.text, **sheet.lists}


def get_sheet(context: Context, platform: str) -> Sheet:
    """Raises `MissingError`, which names the platforms there are."""
    sheets = all_sheets(context)
    if platform not in sheets:
        known = ", ".join(sheets) or "none is loaded yet"
        raise MissingError(f"There is no platform {platform!r}", f"Load its sheet first; known: {known}")
    return sheets[platform]


def explain_requirement(context: Context, platform: str, requirement: str) -> Explanation:
    """One requirement in words, release by release. Raises `MissingError`."""
    found = get_sheet(context, platform).platform
    known = list(dict.fromkeys(r.id for r in found.requirements))
    if requirement not in known:
        raise MissingError(f"{found.name} asks for no {requirement!r}", f"It asks for {', '.join(known)}")
    return explain(found, requirement)


def need_release(platform: Platform, release: str) -> None:
    if not platform.has(release):
        known = ", ".join(r.id for r in platform.releases)
        raise MissingError(f"{platform.name} has no release {release!r}", f"Use one of {known}")


def check_requirement(platform: Platform, release: str, requirement: str) -> None:
    """Raises `MissingError` unless `requirement` is empty or asked by the release."""
    known = [r.id for r in platform.requirements_at(release)]
    if requirement and requirement not in known:
        raise MissingError(f"Release {release} asks for no {requirement!r}", f"It asks for {', '.join(known)}")


def need_kit_route(route: str) -> Route:
    """The route of a kit. Raises `BadInputError`."""
    if route not in (Route.IN_PLACE, Route.CLEAN):
        raise BadInputError(f"{route!r} is not a route of a kit", "Use in-place or clean")
    return Route(route)
