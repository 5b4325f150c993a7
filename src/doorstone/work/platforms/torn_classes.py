"""Which classes of devices a changed sheet takes apart: all others go over to it as a whole, whoever is in them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from datetime import date
from typing import Any, NamedTuple

from doorstone.core.devices.classes import Classifier
from doorstone.core.facts import FactType
from doorstone.store.readings import values as value_store
from doorstone.work.snapshot.sheets import Sheet


class Torn(NamedTuple):
    """`classes` are those that were asked about with values of outcomes that are torn; `facts` has these by fact."""

    classes: dict[int, Mapping[str, Any]]
    facts: Mapping[str, frozenset[str]]


def torn_classes(
    db: sqlite3.Connection, old: Sheet, new: Sheet, today: date, contents: Mapping[int, Mapping[str, Any]]
) -> Torn | None:
    """The classes, by number and content, that may not be alike any more by the new sheet; None if any may not.

    That is so where the new sheet looks at other facts, or settles readings otherwise: contents do not hold what they
    were not asked for. Devices with a decision on a dispute of their own are to be looked at whatever their class.
    """
    before, after = (Classifier(sheet.platform, today) for sheet in (old, new))
    if before.frame != after.frame or before.names != after.names or _settled_by(old) != _settled_by(new):
        return None

    def values(fact: str) -> list[Any]:
        flags = [True, False] if new.platform.specs[fact].type is FactType.FLAG else []
        return [*flags, *(json.loads(text) for text in value_store.of_fact(db, fact))]

    torn = before.torn_by(after, values)
    return Torn({number: content for number, content in contents.items() if before.holds(content, torn)}, torn)


def _settled_by(sheet: Sheet) -> object:
    """All of a sheet, beside its tests, by which readings become what a device is believed to be."""
    judged = {(requirement.id, frozenset(requirement.condition.facts())) for requirement in sheet.platform.requirements}
    return sheet.platform.specs, judged, sheet.requirement_by_message, sheet.reported
