"""Numbers and tables as people write them; the JSON of a hardware lister as it prints it."""

from __future__ import annotations

import io
from datetime import datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from doorstone.core.facts import BUILT_IN, FactError
from doorstone.core.numbers import Marks, NumberError, read_number
from doorstone.formats.mapping import MappingError, read_mapping
from doorstone.formats.readings import Parsed, read_stream, read_text

MEMORY = BUILT_IN["memory.mib"]
ROOT = Path(__file__).parents[2]


@pytest.mark.parametrize(
    ("text", "number"),
    [
        ("7.9", "7.9"), ("7,9", "7.9"), ("8192", "8192"), ("8 192", "8192"), ("8\u00a0192,5", "8192.5"),
        ("1.234.567", "1234567"), ("1,234,567", "1234567"), ("1.234,5", "1234.5"), ("1,234.5", "1234.5"),
        ("0,512", "0.512"), ("1234,567", "1234.567"), ("1'024", "1024"), (",5", "0.5"), ("-3,25", "-3.25"),
    ],
)  # fmt: skip
def test_what_can_be_read_one_way_is(text: str, number: str) -> None:
    assert read_number(text) == Decimal(number)


@pytest.mark.parametrize(("text", "readings"), [("8,192", ("8.192", "8192")), ("16.384", ("16.384", "16384"))])
def test_what_can_be_read_two_ways_is_refused_with_both(text: str, readings: tuple[str, str]) -> None:
    with pytest.raises(NumberError) as error:
        read_number(text)
    assert error.value.readings == tuple(map(Decimal, readings))
    assert read_number(text, Marks(decimal=",")) + read_number(text, Marks(decimal=".")) == sum(map(Decimal, readings))


@pytest.mark.parametrize("text", ["", "GiB", "1.2.3", "12,34,567", "1,,5", "8 19", "--3", "1e5", "٣"])
def test_what_is_no_number_is_refused(text: str) -> None:
    with pytest.raises(NumberError) as error:
        read_number(text)
    assert error.value.readings == ()


@given(st.integers(-(10**9), 10**9), st.integers(0, 99), st.sampled_from([(".", ","), (",", "."), (",", " ")]))
def test_a_number_written_with_marks_is_read_with_them(whole: int, part: int, marks: tuple[str, str]) -> None:
    decimal, thousand = marks
    text = f"{whole:,}".replace(",", thousand) + f"{decimal}{part:02}"
    sign = -1 if whole < 0 else 1
    assert read_number(text, Marks(decimal, thousand)) == whole + sign * Decimal(part) / 100


def test_sizes_with_a_comma_are_what_was_meant_or_refused() -> None:
    assert MEMORY.parse("7,9 GiB") == 8089  # 7.9 x 1024 = 8089.6
    with pytest.raises(FactError, match=r"'8,192 MiB' for memory.mib can be read as 8.192 or 8192"):
        MEMORY.parse("8,192 MiB")


# ---------------------------------------------------------------------- tables

HEAD = 'format = 1\n{}[constant]\nsource = "list"\ntaken_at = "now"\n[[column]]\nfrom = "Gerät"\nto = "device"\n'
NOW = datetime(2027, 1, 18, 9)


def table(text: str, said: str, *columns: str, encoding: str = "utf-8") -> Parsed:
    mapping = read_mapping(HEAD.format(said) + "".join(f"[[column]]\n{c}\n" for c in columns), BUILT_IN, NOW)
    found = list(read_stream(io.BytesIO(text.encode(encoding)), "csv", BUILT_IN, mapping))
    records = tuple(one for one in found if hasattr(one, "content"))
    return Parsed(records, tuple(one for one in found if not hasattr(one, "content")))  # type: ignore[arg-type]


def facts(found: Parsed) -> dict[str, Any]:
    assert found.problems == ()
    return dict(found.records[0].reading.facts)


MEM = 'from = "Speicher"\nto = "memory.mib"\nunit = "GB"'


def test_a_table_of_another_country_with_its_marks_encoding_dates_and_words() -> None:
    text = 'Gerät;Speicher;Sicherung;Frei\nnbt-1;"7,9";18.01.2027;n. v.\n'
    said = 'encoding = "windows-1252"\ndecimal = ","\ndates = ["%d.%m.%Y", "%Y-%m-%d"]\n'
    said += 'nothing = ["n. v."]\nsizes = "as-sold"\n'
    backup, free = 'from = "Sicherung"\nto = "care.last_backup"', 'from = "Frei"\nto = "disk.free_gib"'
    found = table(text, said, MEM, backup, free, encoding="windows-1252")
    assert facts(found) == {"memory.mib": 8089, "care.last_backup": NOW.date()}
    assert found.records[0].taken_at == "2027-01-18T09:00:00"


@pytest.mark.parametrize(("sizes", "mib"), [("as-written", 7629), ("as-sold", 8192)])
def test_a_module_sold_as_8_gb_holds_8_gib_by_a_named_rule(sizes: str, mib: int) -> None:
    assert facts(table("Gerät;Speicher\nnbt-1;8\n", f'sizes = "{sizes}"\n', MEM)) == {"memory.mib": mib}
    disk = 'from = "Platte"\nto = "disk.system_gib"\nunit = "GB"'
    assert facts(table("Gerät;Platte\nnbt-1;256\n", f'sizes = "{sizes}"\n', disk)) == {"disk.system_gib": 238}


@pytest.mark.parametrize("mark", [",", ";", "\t"])
def test_what_parts_the_cells_is_found_out(mark: str) -> None:
    plain = mark.join(["device", "source", "taken_at", "memory.mib"])
    row = mark.join(["nbt-1", "list", "2027-01-18", "8192"])
    assert facts(read_text(f"{plain}\n{row}\n", "csv", BUILT_IN)) == {"memory.mib": 8192}


def test_a_number_or_date_that_can_be_read_two_ways_names_its_line_and_both() -> None:
    found = table("Gerät;Speicher\nnbt-1;8,192\n", "", MEM)
    assert [(p.line, p.place) for p in found.problems] == [(2, "Speicher")]
    assert "can be read as 8.192 or 8192" in found.problems[0].message
    date = 'from = "Sicherung"\nto = "care.last_backup"'
    said = 'dates = ["%d/%m/%Y", "%m/%d/%Y"]\n'
    found = table("Gerät;Sicherung\nnbt-1;04/03/2027\n", said, date)
    assert "can be read as 2027-03-04 (%d/%m/%Y) or 2027-04-03 (%m/%d/%Y)" in found.problems[0].message
    assert facts(table("Gerät;Sicherung\nnbt-1;18/01/2027\n", said, date)) == {"care.last_backup": NOW.date()}


@pytest.mark.parametrize(
    ("said", "words"),
    [('encoding = "klingon"\n', "'klingon' is unknown"), ('decimal = ","\nthousands = ","\n', "The same mark")],
)
def test_a_mapping_that_cannot_be_meant_is_refused(said: str, words: str) -> None:
    with pytest.raises(MappingError, match=words):
        table("Gerät\nnbt-1\n", said)


# ------------------------------------------------------------- the hardware lister


def test_the_ready_mapping_reads_what_the_hardware_lister_prints() -> None:
    text = (ROOT / "tests" / "formats" / "lshw.json").read_text()
    mapping = read_mapping((ROOT / "docs" / "mappings" / "lshw.toml").read_text(), BUILT_IN, NOW)
    found = facts(read_text(text, "json", BUILT_IN, mapping))
    assert found["memory.mib"] == 24576  # 25,769,803,776 bytes
    assert found["cpu.arch"] == "x86-64"
    assert {"avx2", "fma", "bmi2"} <= found["cpu.features"]
    assert found["disk.system_gib"] == 238  # 256,060,514,304 bytes
    assert (found["machine.maker"], found["machine.model"]) == ("Fallow Works", "Fallow 430")
