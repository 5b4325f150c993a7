from __future__ import annotations

import json
import tomllib

import jsonschema
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from doorstone.core.platforms.platform import Origin, Route, Sort, Standing, UpdateClass
from doorstone.demo.seed import sheet_text
from doorstone.formats.sheet import SheetError, SheetProblem, parse_list, read_sheet
from doorstone.formats.sheet_schema import json_schema
from tests.build import tarn

TEXT, LISTS = sheet_text()


def problems(*changes: tuple[str, str], lists: dict[str, str] | None = None) -> list[SheetProblem]:
    text = TEXT
    for old, new in changes:
        assert old in text
        text = text.replace(old, new, 1)
    with pytest.raises(SheetError) as error:
        read_sheet(text, LISTS if lists is None else lists, "tarn.toml")
    return list(error.value.problems)


def line_of(words: str) -> int:
    return next(number for number, line in enumerate(TEXT.splitlines(), 1) if words in line)


def test_the_demo_sheet_is_read() -> None:
    platform = tarn()
    assert [r.id for r in platform.releases] == ["8", "9.0", "9.1", "9.2", "9.3"]
    assert len(platform.requirements) == 11
    assert len(platform.overrides) == 11
    graphics = platform.requirement("graphics-level")
    assert [platform.sheet_sort(graphics, r) for r in ("9.2", "9.3")] == [Sort.CHECK, Sort.FLOOR]
    chip = platform.requirement("security-chip")
    assert platform.effects_at(chip, "9.1") == {
        UpdateClass.SECURITY: Standing.UNPROMISED,
        UpdateClass.RELEASE: Standing.WITHHELD,
    }
    drop_in = platform.override("compat-drop-in")
    assert (drop_in.origin, drop_in.until, drop_in.routes) == (Origin.VENDOR, "9.2", {Route.IN_PLACE})
    assert "Quern Q5-740" in platform.lists["tarn-9-processors.csv"]


def test_an_unknown_fact_is_refused_with_its_line_and_the_near_one() -> None:
    found = problems(('fact = "cpu.arch", is', 'fact = "cpu.arhc", is'))
    assert len(found) == 1
    assert found[0].line == line_of('fact = "cpu.arch"')
    assert found[0].place == "requirement[1].condition.fact"
    assert found[0].message == "Unknown fact 'cpu.arhc'"
    assert "Did you mean cpu.arch?" in found[0].hint


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ('until = "9.2"', 'until = "9.9"', "Unknown release '9.9'"),
        ('covers = ["security-chip"]', 'covers = ["security-chap"]', "Unknown requirement 'security-chap'"),
        ('conflicts = ["small-disk"]', 'conflicts = ["tiny-disk"]', "Unknown override 'tiny-disk'"),
        ('upgrade_from = ["8"]', 'upgrade_from = ["9.2"]', "'9.2' is no earlier release"),
        ("estate = 2027-08-31", "palace = 2027-08-31", "Unknown edition 'palace'"),
        ('id = "small-disk"', 'id = "small-memory"', "'small-memory' stands twice"),
        ('arguments = ["--plain-drawing"]', "", "An argument override needs arguments"),
        ('value = true, place = "system"', 'value = true, place = "moon"', "Unknown place 'moon'"),
        ('type = "flag", value = true', 'type = "text", value = true', "grace is not of type text"),
        ('gives = { "tpm.state" = "on" }', 'gives = { "tpm.state" = "awake" }', "tpm.state cannot be 'awake'"),
        ('gives = { "tpm.state" = "on" }', 'gives = { "tpm.status" = "on" }', "Unknown fact 'tpm.status'"),
        ('name = "account.online"', 'name = "tpm.state"', "tpm.state is built in"),
        ('as = "floor"', 'as = "ceiling"', "Input should be 'floor', 'installer-check' or 'unsorted'"),
        ('kind = "argument"', 'kind = "charm"', "Input should be 'setting', 'argument'"),
        ('kind = "argument"', 'kind = "loader"', "A loader override, and no other, has a loader"),
        ('change = "added", file = "tarn-packed.ini"', 'change = "added"', "tarn/packed.ini is added"),
        ('file = "tarn-packed.ini"', 'file = "gone.ini"', "The file 'gone.ini' is missing"),
        (
            'change = "emptied", before',
            'change = "added", before',
            "A media-file override changes files",
        ),
        ("weight = 2", "weight = 12", "Input should be less than or equal to 9"),
        ('because = "Set-up refuses', 'becuase = "Set-up refuses', "Unknown key 'becuase'"),
        ('system = "etc/tarn/settings.d"', 'system = "../etc"', "String should match pattern"),
        ('value = "local"', 'value = "lo\\ncal"', "String should match pattern"),
        ('value = ["security-chip", "processor-listed"]', 'value = ["a;b"]', "An item of accept has a semicolon in it"),
        ("at_least = 6144", 'at_least = "6 GHz"', "'GHz' is not a unit"),
        ("[platform]", "[platform", "Expected ']'"),
    ],
)
def test_what_is_wrong_is_refused_at_its_place(old: str, new: str, message: str) -> None:
    found = problems((old, new))
    assert any(message in problem.message for problem in found), found
    assert all(problem.hint for problem in found)
    assert all(problem.line for problem in found)


def test_a_value_that_could_be_one_of_several_things_is_named_once() -> None:
    (found,) = problems(('value = true, place = "system"', 'value = 1.5, place = "system"'))
    assert found.place == "override[2].settings[1].value"
    assert found.message == (
        "Input should be a valid boolean, or a valid integer, got a number with a fractional part, or a valid string, "
        "or a valid list"
    )


def test_a_missing_list_is_refused() -> None:
    assert "list 'tarn-9-processors.csv' is missing" in problems(lists={})[0].message


def test_every_problem_comes_at_once_in_order_of_line() -> None:
    found = problems(('"cpu.arch"', '"cpu.arhc"'), ('until = "9.2"', 'until = "9.9"'))
    lines = [problem.line for problem in found]
    assert lines == sorted(lines, key=lambda line: line or 0)
    assert len(found) == 2


def test_lists_hold_the_first_column_without_comments() -> None:
    assert parse_list('# made up\n\nQuern Q5-740,2021\n"Marl M4 210"\n') == {"Quern Q5-740", "Marl M4 210"}


def test_the_json_schema_accepts_the_demo_sheet_and_refuses_another() -> None:
    schema = json_schema()
    jsonschema.Draft202012Validator.check_schema(schema)
    data = json.loads(json.dumps(tomllib.loads(TEXT), default=str))
    jsonschema.validate(data, schema)
    data["override"][0]["kind"] = "charm"
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate(data, schema)


@settings(max_examples=60, deadline=None)
@given(st.integers(0, len(TEXT) - 1), st.integers(0, 60), st.text(max_size=20))
def test_a_damaged_sheet_is_read_or_refused_but_never_crashes(start: int, length: int, put: str) -> None:
    damaged = TEXT[:start] + put + TEXT[start + length :]
    try:
        read_sheet(damaged, LISTS)
        found: list[SheetProblem] = []
    except SheetError as error:
        found = [*error.problems]
    assert all(problem.message and problem.hint for problem in found)


def test_an_enormous_sheet_is_refused() -> None:
    with pytest.raises(SheetError, match="over 2 MB"):
        read_sheet("#" * 2_000_001, {})


# ------------------------------------------------------- what cannot be meant

GRAPHICS = 'sort = [{ from = "9.0", as = "installer-check" }, { from = "9.3", as = "floor" }]'
DROP_IN = 'id = "compat-drop-in"\ntitle = "Compatibility drop-in"\ncovers = ["security-chip", "processor-listed"]'
BOOT_ON = 'gives = { "firmware.secure_boot" = "on" }'
EFFECT = '  minutes = 10\n\n  [[requirement.effect]]\n  from = "9.0"\n  security = "unpromised"\n'
NO_MEANING = [
    ('until = "9.2"\nkind = "setting"', 'until = "9.0"\nkind = "setting"', "override[1].until: It ends at release 9.0"),
    (GRAPHICS, GRAPHICS.replace("9.3", "9.0"), "Two sorts from release 9.0"),
    (GRAPHICS, GRAPHICS.replace('"9.0", as', '"8", as'), "The sort from 8 never counts: graphics-level begins at 9.0"),
    ("desk = 2027-11-30, ", "desk = 2026-05-11, ", "Servicing of 9.1 for desk ends 2026-05-11, before it is published"),
    ("desk = 2027-11-30, ", "", "Release 9.1 says nothing of edition desk"),
    (DROP_IN, DROP_IN + '\nconflicts = ["compat-drop-in"]', "It conflicts with itself"),
    (DROP_IN, DROP_IN.replace("security-chip", "instruction-level"), "It covers instruction-level, which is a floor"),
    (BOOT_ON, BOOT_ON.replace('"on"', '"off"'), "secure-boot is still unmet"),
    (BOOT_ON, 'gives = { "cpu.cores" = 8 }', "gives nothing that secure-boot looks at"),
    ('fact = "disk.system_gib", at_least = 60, tolerance = "3%"', 'fact = "media.verified", is = true', "of the media"),
    (EFFECT, EFFECT.replace('  security = "unpromised"\n', ""), "The effect says nothing"),
]


@pytest.mark.parametrize(("old", "new", "message"), NO_MEANING)
def test_a_sheet_that_cannot_be_meant_is_refused_with_place_and_mend(old: str, new: str, message: str) -> None:
    found = problems((old, new))
    assert any(message in str(problem) for problem in found), [str(problem) for problem in found]
    assert all(problem.line and problem.hint for problem in found)


def test_two_effects_from_one_release_are_refused() -> None:
    effect = '  [[requirement.effect]]\n  from = "9.0"\n  driver = "withheld"\n'
    (found,) = problems((effect, effect + effect))
    assert "Two effects from release 9.0" in str(found)
