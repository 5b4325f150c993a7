"""What a changed sheet changes, in words that are worked out by hand."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import date, timedelta
from decimal import Decimal
from enum import Enum
from typing import Any

import pytest
from msgspec import Struct
from msgspec.structs import fields, replace

from doorstone.core.conditions import All, Any_, Leaf, Not
from doorstone.core.facts import BUILT_IN
from doorstone.core.platforms.differences import differences
from doorstone.core.platforms.platform import Platform
from doorstone.core.platforms.summary import explain
from doorstone.core.sorting.rules_basis import rules_basis
from doorstone.demo.seed import sheet_text
from doorstone.formats.sheet import read_sheet
from tests.build import TODAY, tarn

TEXT, LISTS = sheet_text()


def changed(before: str, after: str, lists: dict[str, str] | None = None) -> Platform:
    assert before in TEXT
    return read_sheet(TEXT.replace(before, after), lists or LISTS)


FLOOR_AT = '{{ from = "{}", as = "floor" }}'
END_AT = 'until = "{}"\nkind = "setting"'
NEEDS = 'needs = { fact = "disk.system_gib", at_least = 28 }\n'
CHANGES = [
    (
        "at_least = 6144",
        "at_least = 8192",
        "9.0, 9.1, 9.2, 9.3: asks memory.mib at least 8,192 MiB (3% less of memory.mib will do), was 6,144",
    ),
    (FLOOR_AT.format("9.3"), FLOOR_AT.format("9.2"), "at 9.2: is a floor, was an installer check"),
    (END_AT.format("9.2"), END_AT.format("9.1"), "no longer works from 9.1 on, was 9.2"),
    ("2027-12-14", "2028-01-18", "published 2028-01-18, was 2027-12-14"),
    ("desk = 2027-11-30", "desk = 2027-12-31", "desk is serviced through 2027-12-31, was 2027-11-30"),
    ('["9.0", "9.1", "9.2"]', '["9.2"]', "can be reached from 9.2, was 9.0, 9.1, 9.2"),
    ("within_days = 14", "within_days = 7", "asks care.last_backup within 7 days, was care.last_backup within 14 days"),
    ('driver = "withheld"', 'driver = "normal"', "without it: driver updates normal, was withheld"),
    ('cost = "38.00"', 'cost = "44.00"', "Fit 8 GiB of memory: 20 min and 44.00, was 20 min and 38.00"),
    ("within_days = 10", "within_days = 5", "asks care.last_backup within 5 days of critical devices, was"),
    ('critical_severity = "stop"\n', "", "warns before critical devices, was stop"),
    (NEEDS, "", "needs always, was disk.system_gib at least 28 GiB"),
]


@pytest.mark.parametrize(("before", "after", "words"), CHANGES)
def test_each_change_is_said_in_words(before: str, after: str, words: str) -> None:
    assert any(words in change.words for change in differences(tarn(), changed(before, after)))


def test_nothing_changed_says_nothing() -> None:
    assert differences(tarn(), read_sheet(TEXT + "\n# looked through\n", LISTS)) == ()


def test_a_list_says_what_was_added_and_removed() -> None:
    listed = LISTS["tarn-9-processors.csv"].replace("Quern Q5-740", "Quern Q9-100")
    found = differences(tarn(), read_sheet(TEXT, {**LISTS, "tarn-9-processors.csv": listed}))
    assert [(c.kind, c.words) for c in found] == [
        ("list", "1 added: Quern Q9-100"),
        ("list", "1 removed: Quern Q5-740"),
    ]


def test_a_requirement_that_comes_and_one_that_goes() -> None:
    asked = next(r for r in tarn().requirements if r.id == "online-account")
    others = tuple(replace(r, since="9.2") if r is asked else r for r in tarn().requirements)
    later = replace(tarn(), requirements=others)
    found = [c.words for c in differences(tarn(), later) if c.subject == "online-account"]
    assert found == ["no longer asked at 9.1"]
    assert [c.words for c in differences(later, tarn()) if c.subject == "online-account"] == ["now also asked at 9.1"]


def test_only_the_releases_a_change_concerns_are_sorted_anew() -> None:
    moved = changed('{ from = "9.3", as = "floor" }', '{ from = "9.2", as = "floor" }')
    same = [r.id for r in tarn().releases if rules_basis(tarn(), r.id, TODAY) == rules_basis(moved, r.id, TODAY)]
    assert same == ["8", "9.0", "9.1", "9.3"]
    titled = changed("64 GB system disk", "64 GB of system disk")
    assert all(rules_basis(tarn(), r.id, TODAY) == rules_basis(titled, r.id, TODAY) for r in tarn().releases)


# ------------------------------------------------------------------ completeness


def other(value: Any) -> Any:
    """Another value of the same kind."""
    if isinstance(value, Enum):
        return next(member for member in type(value) if member is not value)
    match value:
        case bool():
            return not value
        case int() | Decimal():
            return value + 1
        case str():
            return value + "x" if value else "x"
        case bytes():
            return value + b"x"
        case date():
            return value + timedelta(days=1)
        case float():
            return value + 0.01
        case tuple():
            return value[:-1] if value else ("x",)
        case frozenset():
            return frozenset() if value else frozenset({"x"})
        case Mapping():
            return {name: other(held) for name, held in value.items()} if value else {"x": "x"}
        case None:
            return "9.2"
    return All(()) if value != All(()) else Not(All(()))


PARTS = ("sets", "settings", "files", "overrides", "fixes", "effects", "sorts", "followups", "gates")


def mutations(thing: Any) -> Iterator[tuple[str, Any]]:
    """Every attribute of every part of a platform changed, one at a time; ids and positions stay."""
    for field in fields(thing):
        value = getattr(thing, field.name)
        if field.name in ("id", "lists", "models", "list_name", "spec"):
            continue
        if value == () and field.name in PARTS:
            continue  # one that is added is compared as a whole
        if isinstance(value, tuple) and value and isinstance(value[0], Struct):
            for at, part in enumerate(value):
                for name, changed_part in mutations(part):
                    whole = (*value[:at], changed_part, *value[at + 1 :])
                    yield f"{field.name}[{at}].{name}", replace(thing, **{field.name: whole})
        elif isinstance(value, Struct) and not isinstance(value, All | Any_ | Not | Leaf):
            for name, changed_part in mutations(value):
                yield f"{field.name}.{name}", replace(thing, **{field.name: changed_part})
        elif field.name == "specs":
            for name in sorted(set(value) - set(BUILT_IN)):
                for attribute, own in mutations(value[name]):
                    yield f"specs.{name}.{attribute}", replace(thing, specs={**value, name: own})
        else:
            yield field.name, replace(thing, **{field.name: other(value)})


def test_no_attribute_of_a_sheet_changes_unseen() -> None:
    seen = 0
    for name, platform in (("tarn", tarn()), ("brindle", brindle())):
        for where, mutant in mutations(platform):
            try:
                found = differences(platform, mutant)
            except KeyError:  # a release that is named nowhere: no sheet can say so
                assert where.endswith(("since", "until", "upgrade_from")), where
                continue
            unseen_by_right = platform.releases[0].id if where.endswith(".since") else ""
            assert found or unseen_by_right, f"{name}: {where} changed unseen"
            seen += 1
    assert seen > 700


def test_a_tolerance_a_setting_and_a_file_say_what_they_were() -> None:
    tolerant = changed('tolerance = "3%"', 'tolerance = "5%"')
    words = [c.words for c in differences(tarn(), tolerant)]
    assert any("(5% less of memory.mib will do)" in said for said in words)
    value = changed('name = "grace", type = "flag", value = true', 'name = "grace", type = "flag", value = false')
    assert [c.words for c in differences(tarn(), value)] == ["setting setup/processor/grace (system): no, was yes"]


# -------------------------------------------------------------- model tables

BRINDLE, MODELS = sheet_text("brindle")


def brindle(models: str = MODELS["brindle-models.csv"]) -> Platform:
    return read_sheet(BRINDLE, {**MODELS, "brindle-models.csv": models})


def test_a_model_table_is_a_condition_of_its_own_at_each_release() -> None:
    found = explain(brindle(), "model-listed")
    assert [(at.release, at.asks) for at in found.releases] == [
        ("6", "machine.model listed in brindle-models.csv for 6"),
        ("7", "machine.model listed in brindle-models.csv for 7"),
        ("8", "machine.model listed in brindle-models.csv for 8"),
    ]
    reached = {
        release: sorted(next(brindle().requirements_at(release)[1].condition.leaves()).operand)
        for release in ("6", "7", "8")
    }
    assert reached["6"] == ["Plate Station 2", "Plate Station 3", "Plate Station 4", "Plate Station 5"]
    assert reached["7"] == ["Plate Station 3", "Plate Station 4", "Plate Station 5"]
    assert reached["8"] == ["Plate Station 4", "Plate Station 5"]
    assert brindle().models["Plate Station 2"].patches == ("scanner bridge 2", "colour profile 6")


def test_a_changed_row_of_a_model_table_is_a_difference() -> None:
    further = MODELS["brindle-models.csv"].replace("Plate Station 3,7,7,", "Plate Station 3,7,8,")
    words = [(c.kind, c.words) for c in differences(brindle(), brindle(further))]
    assert words == [
        ("list", "1 added: Plate Station 3 to 7, possible to 8"),
        ("list", "1 removed: Plate Station 3 to 7, possible to 7"),
    ]


@pytest.mark.parametrize(
    ("models", "message"),
    [
        ("model,last\nA,6\n", "line 1, brindle-models.csv: The column 'possible' is missing"),
        ("model,last,possible,patches\nA,9,9,\n", "line 2, brindle-models.csv: Unknown release '9'"),
        ("model,last,possible,patches\nA,6,6,\nA,7,7,\n", "line 3, brindle-models.csv: The model 'A' is empty"),
    ],
)
def test_a_bad_model_table_is_named_with_its_line(models: str, message: str) -> None:
    with pytest.raises(ValueError, match="brindle") as error:
        brindle(models)
    assert message in str(error.value)


def test_a_missing_model_table_and_a_requirement_with_both_are_refused() -> None:
    with pytest.raises(ValueError, match="The model table is missing"):
        read_sheet(BRINDLE, {})
    both = BRINDLE.replace(
        "model_table = { file", 'condition = { fact = "cpu.cores", at_least = 2 }\nmodel_table = { file', 1
    )
    with pytest.raises(ValueError, match="has a condition or a model_table"):
        read_sheet(both, MODELS)
