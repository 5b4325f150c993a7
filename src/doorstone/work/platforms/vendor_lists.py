"""A vendor's raw list becomes the list beside a sheet: matched, decided where it is only near, loaded as a revision."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence

from msgspec import Struct, field

from doorstone.core.platforms.vendor_list import ListMatch, MatchRules, list_text, match_list
from doorstone.formats.mapping import CellError
from doorstone.formats.raw_list import read_names
from doorstone.store import platforms as store
from doorstone.store.readings import values
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import record
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, ErrorEntry, MissingError, RefusedError
from doorstone.work.platforms.impact import Impact, sheet_impact
from doorstone.work.platforms.revisions import LoadReport, load_sheet
from doorstone.work.platforms.tasks import keep_tasks
from doorstone.work.snapshot.sheets import Sheet, get_sheet


class RawList(Struct, frozen=True):
    """A list as the vendor gives it. `same` maps a raw name to the one that it is; `other` are names of their own."""

    text: str
    form: str = "lines"
    column: str = ""
    rules: MatchRules = field(default_factory=MatchRules)
    same: Mapping[str, str] = field(default_factory=dict)
    other: Sequence[str] = ()

    @property
    def decided(self) -> dict[str, str]:
        return {**dict(self.same), **{name: name for name in self.other}}


class ListPreview(Struct, frozen=True):
    """How a raw list matches, the list that it becomes, and what loading that would change."""

    platform: str
    name: str
    revision: int
    match: ListMatch
    text: str
    impact: Impact


def lists_of(context: Context, platform: str) -> list[str]:
    """The lists of names beside a sheet, by file name. Raises `MissingError`."""
    return _lists(get_sheet(context, platform))


def _lists(sheet: Sheet) -> list[str]:
    used = {leaf.list_name for r in sheet.platform.requirements for leaf in r.condition.leaves()}
    return sorted(name for name in sheet.lists if name in used)


def preview_list(context: Context, platform: str, name: str, given: RawList) -> ListPreview:
    """Match a raw list with the one of that name beside the sheet; nothing is loaded, nothing remembered.

    Raises `MissingError` for an unknown platform or list, `BadInputError` for a file that cannot be read.
    """
    sheet = get_sheet(context, platform)
    match = _match(context, sheet, name, given)
    text = list_text(match, f"{sheet.platform.maker}: {name}")
    lists = {**sheet.lists, name: text}
    return ListPreview(
        platform, name, sheet.revision, match, text, sheet_impact(context, sheet.text, lists, f"{platform}.toml")
    )


def load_list(
    context: Context, actor: Actor, platform: str, name: str, given: RawList, seen: int | None = None
) -> LoadReport:
    """Load the list as the sheet's next revision, and remember what was said of names. Raises as `preview_list` does.

    Refused while a name is only near to one that is known and nobody has said whether it is the same.
    """
    with context.database.write() as db:
        sheet = get_sheet(context, platform)
        match = _match(context, sheet, name, given)
        if match.undecided:
            errors = [
                ErrorEntry(one.raw, f"It is near to {' and '.join(one.near)}", "Say whether it is the same, or another")
                for one in match.undecided
            ]
            raise RefusedError("Names are undecided", "Say of each whether it is the same name", errors)
        text = list_text(match, f"{sheet.platform.maker}: {name}")
        if given.decided:
            store.keep_list_names(db, platform, name, given.decided, actor.name, context.now())
            record(context, db, actor, "list names decided", "sheet", platform, {"list": name, "names": given.decided})
        lists = {**sheet.lists, name: text}
        impact = sheet_impact(context, sheet.text, lists, f"{platform}.toml")
        report = load_sheet(context, actor, sheet.text, lists, f"{platform}.toml", seen)
        if report.changed:
            keep_tasks(context, actor, impact, report.revision)
        return report


def _match(context: Context, sheet: Sheet, name: str, given: RawList) -> ListMatch:
    if name not in _lists(sheet):
        there = ", ".join(_lists(sheet)) or "none"
        raise MissingError(f"{sheet.platform.name} has no list {name!r}", f"There is: {there}")
    try:
        raw = read_names(given.text, given.form, given.column)
    except CellError as error:
        raise BadInputError(f"The list cannot be read: {error.place}: {error.message}", error.hint) from error
    strange = sorted(set(given.decided) - set(raw))
    if strange:
        raise BadInputError(f"{strange[0]!r} does not stand in the list", "Name it as the vendor writes it")
    facts = {
        leaf.fact
        for requirement in sheet.platform.requirements
        for leaf in requirement.condition.leaves()
        if leaf.list_name == name
    }
    with context.database.read() as db:
        reported = {str(json.loads(value)) for fact in facts for value in values.of_fact(db, fact)}
        remembered = {**store.list_names(db, sheet.platform.id, name), **given.decided}
    held = sheet.platform.lists[name]
    return match_list(raw, held, reported, remembered, given.rules)
