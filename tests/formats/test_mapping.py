"""Foreign columns, units and words become ours; what cannot be placed is named."""

from __future__ import annotations

from contextlib import suppress
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from doorstone.core.facts import BUILT_IN
from doorstone.demo.seed import export_text
from doorstone.formats.mapping import ColumnMapping, MappingError, read_mapping
from doorstone.formats.readings import Parsed, read_text

HEAD = """
format = 1
[constant]
source = "inventory"
taken_at = "2027-01-11"
[[column]]
from = "Asset"
to = "device"
"""


def mapping(*columns: str, head: str = HEAD) -> ColumnMapping:
    return read_mapping(head + "".join(f"[[column]]\n{column}\n" for column in columns), BUILT_IN)


def table(header: str, row: str, *columns: str, form: str = "csv") -> Parsed:
    return read_text(f"Asset,{header}\nnbt-1,{row}\n", form, BUILT_IN, mapping(*columns))


def value(header: str, cell: str, column: str) -> Any:
    found = table(header, cell, f'from = "{header}"\n{column}')
    assert found.problems == ()
    return next(iter(found.records[0].reading.facts.values()))


@pytest.mark.parametrize(
    ("unit", "cell", "mib"),
    [
        ("MB", "8590", 8192),  # 8590 x 10^6 / 2^20 = 8192.06
        ("GB", "8", 7629),  # 8 x 10^9 / 2^20 = 7629.39
        ("GiB", "8", 8192),
        ("kB", "8388608", 8000),  # 8388608 x 10^3 / 2^20 = 8000
        ("GiB", "4096 MiB", 4096),  # a cell's own unit counts
    ],
)
def test_units(unit: str, cell: str, mib: int) -> None:
    assert value("RAM", cell, f'to = "memory.mib"\nunit = "{unit}"') == mib


@pytest.mark.parametrize(
    ("cell", "state"),
    [("Enabled", "on"), ("disabled", "off"), ("Not present", "absent"), ("ON", "on"), ("Ready", "on"), ("3", "off")],
)
def test_vendors_words_for_on_off_and_absent(cell: str, state: str) -> None:
    assert value("TPM", cell, 'to = "tpm.state"\nvalues = { "ready" = "on", "3" = "off" }') == state


def test_yes_and_no_dates_and_sets() -> None:
    assert value("Encrypted", "YES", 'to = "disk.encrypted"') is True
    assert value("Crypt", "aktiv", 'to = "disk.encrypted"\nvalues = { "aktiv" = true }') is True
    assert str(value("Backup", "15/01/2027", 'to = "care.last_backup"\ntime = "%d/%m/%Y"')) == "2027-01-15"
    assert value("Flags", "avx|avx2", 'to = "cpu.features"\nseparator = "|"') == {"avx", "avx2"}


def test_an_empty_or_unknown_cell_is_no_fact() -> None:
    for cell in ("", "n/a", "Unknown"):
        found = table("TPM,RAM", f"{cell},8", 'from = "TPM"\nto = "tpm.state"', 'from = "RAM"\nto = "cpu.cores"')
        assert list(found.records[0].reading.facts) == ["cpu.cores"]


def test_nested_keys_of_json_are_joined_by_dots() -> None:
    columns = ('from = "hw.tpm.ready"\nto = "tpm.state"\nvalues = { "true" = "on", "false" = "off" }',)
    text = '{"Asset": "nbt-1", "hw": {"tpm": {"ready": false}}}'
    assert read_text(text, "ndjson", BUILT_IN, mapping(*columns)).records[0].reading.facts == {"tpm.state": "off"}


def test_one_column_may_feed_two_facts_and_a_verdict() -> None:
    found = table(
        "Compatible",
        "No",
        'from = "Compatible"\nto = "verdict:security-chip"',
        'from = "Compatible"\nto = "disk.encrypted"',
    )
    assert found.records[0].reading.verdicts == {"security-chip": False}
    assert found.records[0].reading.facts == {"disk.encrypted": False}


@pytest.mark.parametrize(
    ("header", "cell", "place", "message"),
    [
        ("TPM", "Perhaps", "TPM", "'Perhaps' is none of on, off, absent"),
        ("When", "2027-13-01", "When", "is not written as %d/%m/%Y"),
        ("Colour", "red", "Colour", "Nothing is said about 'Colour'"),
    ],
)
def test_what_cannot_be_placed_is_named(header: str, cell: str, place: str, message: str) -> None:
    columns = ['from = "TPM"\nto = "tpm.state"', 'from = "When"\nto = "care.last_backup"\ntime = "%d/%m/%Y"']
    used = [column for column in columns if f'"{header}"' in column] or ['from = "RAM"\nto = "cpu.cores"']
    found = table(header if header != "Colour" else "RAM,Colour", cell if header != "Colour" else "4,red", *used)
    assert [(p.place, message in p.message) for p in found.problems] == [(place, True)]


@pytest.mark.parametrize(
    ("text", "place", "message"),
    [
        (HEAD + '[[column]]\nfrom = "A"\nto = "memory.mb"\n', "column[2].to", "There is no 'memory.mb' to map to"),
        (HEAD + '[[column]]\nfrom = "A"\nto = "memory.mib"\nunit = "Gbit"\n', "column[2].unit", "'Gbit' is not a unit"),
        (HEAD + '[[column]]\nfrom = "A"\nto = "tpm.state"\nunit = "MB"\n', "column[2].unit", "tpm.state has no unit"),
        (HEAD.replace("source =", "sauce ="), "constant.sauce", "There is no 'sauce' to map to"),
        (HEAD + "others = 1", "column[1].others", "Unknown key 'others'"),
        ("format = 1\n", "column", "'column' is missing"),
        ("format = \n", "TOML", "Invalid value"),
    ],
)
def test_a_bad_mapping_is_refused_with_its_place(text: str, place: str, message: str) -> None:
    with pytest.raises(MappingError) as error:
        read_mapping(text, BUILT_IN)
    assert (error.value.problems[0].place, message in error.value.problems[0].message) == (place, True)


def test_a_mapped_column_that_is_missing_makes_the_file_unusable() -> None:
    found = table("RAM", "8", 'from = "Memory"\nto = "memory.mib"')
    assert [(p.message, p.fatal) for p in found.problems] == [
        ("The column 'Memory' is mapped but missing", True),
        ("Nothing is said about 'RAM'", True),
    ]


def test_the_demos_export_reads_as_it_should() -> None:
    text, words = export_text()
    found = read_text(text, "csv", BUILT_IN, read_mapping(words, BUILT_IN))
    first = found.records[0]
    assert (first.device, first.about["site"], first.reading.source) == ("nbt-064", "Herbarium", "inventory")
    assert first.reading.facts == {
        "memory.mib": 16384, "disk.system_gib": 476, "tpm.state": "on", "disk.encrypted": True,
    }  # fmt: skip
    assert str(first.reading.taken_at) == "2027-01-10 00:00:00"
    assert [p.line for p in found.problems] == [6, 7]


@settings(max_examples=150, deadline=None)
@given(st.text(max_size=80), st.text(max_size=400))
def test_any_mapping_is_read_or_refused(name: str, rest: str) -> None:
    for text in (rest, HEAD + rest, f'{HEAD}[[column]]\nfrom = "A"\nto = "{name}"\n'):
        with suppress(MappingError):  # and nothing else
            assert read_mapping(text, BUILT_IN).columns


@pytest.mark.parametrize(
    ("cell", "column", "kept"),
    [
        (
            r"NORTHMERE\HB-PC-010.northmere.example",
            "strip = ['northmere\\', '.Northmere.example']\ncase = 'lower'",
            "hb-pc-010",
        ),
        ("hb-pc-010", "case = 'upper'", "HB-PC-010"),
        ("HB-PC-010", "split = '-'\ntake = 1", "HB"),
        ("HB-PC-010", "split = '-'\ntake = -1", "010"),
        (" asset 7 ", "strip = ['asset']", "7"),
    ],
)
def test_a_cell_is_stripped_split_and_set_in_one_case(cell: str, column: str, kept: str) -> None:
    found = table("Host", cell, f"from = 'Host'\nto = 'machine.model'\n{column}")
    facts = found.records[0].reading.facts
    assert facts["machine.model"] == kept


def test_one_column_gives_the_device_and_its_site() -> None:
    text = "Host,RAM\nHB-PC-010,8 GiB\n"
    head = HEAD.partition("[[column]]")[0]
    made = mapping(
        "from = 'Host'\nto = 'device'\ncase = 'lower'",
        "from = 'Host'\nto = 'site'\nsplit = '-'\ntake = 1",
        "from = 'RAM'\nto = 'memory.mib'",
        head=head,
    )
    (record,) = read_text(text, "csv", BUILT_IN, made).records
    assert (record.device, record.about["site"]) == ("hb-pc-010", "HB")


def test_a_part_that_is_not_there_is_named() -> None:
    found = table("Host", "HB", "from = 'Host'\nto = 'machine.model'\nsplit = '-'\ntake = 3")
    assert [(p.where, p.message) for p in found.problems] == [
        ("line 2, Host", "'HB' has 1 part between '-', and take asks for 3"),
    ]
    with pytest.raises(MappingError, match="split and take belong together"):
        mapping("from = 'Host'\nto = 'machine.model'\nsplit = '-'")
    with pytest.raises(MappingError, match="split and take belong together"):
        mapping("from = 'Host'\nto = 'machine.model'\nsplit = '-'\ntake = 0")
