from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from doorstone.core.facts import BUILT_IN, FactError, FactSpec, FactType, Version, dump
from tests.build import SOURCES, reading, settled

MEMORY = BUILT_IN["memory.mib"]


@pytest.mark.parametrize(
    ("raw", "mib"),
    [
        (8192, 8192),
        ("8192", 8192),
        ("8 192 MiB", 8192),
        ("7,9 GiB", 8089),  # 8089.6
        ("8 GiB", 8192),
        ("8 GB", 7629),  # 8,000,000,000 / 1,048,576 = 7629.39
        ("0.5 TiB", 524288),
        ("4194304 KiB", 4096),
    ],
)
def test_sizes_are_read_in_any_unit_of_size(raw: object, mib: int) -> None:
    assert MEMORY.parse(raw) == mib


@pytest.mark.parametrize("raw", ["8 Gbit", "8 GHz", "lots", "", True, None, "1e308", float("nan"), "9" * 40, [8192]])
def test_what_is_no_size_is_refused_with_a_mend(raw: object) -> None:
    with pytest.raises(FactError) as error:
        MEMORY.parse(raw)
    assert error.value.hint


def test_a_wrong_unit_is_named_with_those_that_fit() -> None:
    with pytest.raises(FactError, match=r"'Gbit' is not a unit of memory\.mib") as error:
        MEMORY.parse("8 Gbit")
    assert "MiB, GiB" in error.value.hint
    with pytest.raises(FactError, match="which has no unit"):
        BUILT_IN["cpu.cores"].parse("4 GiB")


@pytest.mark.parametrize(
    ("name", "raw", "value"),
    [
        ("disk.encrypted", "Yes", True),
        ("disk.encrypted", "0", False),
        ("cpu.features", "AVX2; fma,bmi2", frozenset({"avx2", "fma", "bmi2"})),
        ("cpu.features", ["AVX2"], frozenset({"avx2"})),
        ("tpm.state", "OFF", "off"),
        ("tpm.version", "2.0", Version((2, 0))),
        ("care.last_backup", "2027-01-15", date(2027, 1, 15)),
        ("care.last_backup", datetime(2027, 1, 15, 8), date(2027, 1, 15)),
        ("cpu.clock_mhz", "2.4 GHz", 2400),
    ],
)
def test_values_are_read_by_type(name: str, raw: object, value: object) -> None:
    assert BUILT_IN[name].parse(raw) == value


@pytest.mark.parametrize(
    ("name", "raw"),
    [
        ("disk.encrypted", "perhaps"),
        ("cpu.features", 7),
        ("cpu.features", ["avx2", 3]),
        ("tpm.state", "broken"),
        ("tpm.version", "two"),
        ("care.last_backup", "last week"),
        ("machine.model", "a\x00b"),
        ("machine.model", "x" * 501),
        ("machine.model", ["Fallow"]),
    ],
)
def test_what_does_not_fit_the_type_is_refused(name: str, raw: object) -> None:
    with pytest.raises(FactError):
        BUILT_IN[name].parse(raw)


def test_versions_compare_by_number_and_ignore_trailing_zeros() -> None:
    assert Version.parse("1.10") > Version.parse("1.9")
    assert Version.parse("2") == Version.parse("2.0")
    assert hash(Version.parse("2")) == hash(Version.parse("2.0.0"))
    assert str(Version.parse("2.0")) == "2.0"


def test_values_are_shown_with_their_unit() -> None:
    assert MEMORY.show(7900) == "7,900 MiB"
    assert BUILT_IN["disk.encrypted"].show(False) == "no"
    assert BUILT_IN["cpu.features"].show(frozenset({"fma", "avx2"})) == "avx2, fma"
    assert BUILT_IN["cpu.features"].show(frozenset()) == "none"
    assert BUILT_IN["machine.year"].show(2021) == "2021"


@given(st.sampled_from(sorted(BUILT_IN)), st.data())
def test_what_is_dumped_is_read_back(name: str, data: st.DataObject) -> None:
    spec = BUILT_IN[name]
    by_type = {
        FactType.INTEGER: st.integers(0, 10**12),
        FactType.DECIMAL: st.decimals(0, 10**6, places=2),
        FactType.FLAG: st.booleans(),
        FactType.VERSION: st.lists(st.integers(0, 999), min_size=1, max_size=4).map(lambda n: Version(tuple(n))),
        FactType.SET: st.frozensets(st.text("abcdef", min_size=1), max_size=5),
        FactType.DATE: st.dates(),
        FactType.TIMESTAMP: st.datetimes(),
        FactType.TEXT: st.sampled_from(spec.choices)
        if spec.choices
        else st.text("abc XYZ-1", min_size=1).map(str.strip),
    }
    value = data.draw(by_type[spec.type])
    assert spec.parse(dump(value)) == value


def test_a_decimal_fact_keeps_its_places() -> None:
    spec = FactSpec("disk.health", FactType.DECIMAL, "%")
    assert spec.parse("97.5 %".replace(" %", "")) == Decimal("97.5")


# ---------------------------------------------------------------- settling


def test_the_most_trusted_source_is_believed_before_the_newest() -> None:
    view = settled(
        reading("assessor", "2027-01-17T08:00", tpm__state="on"),
        reading("collector", "2027-01-10T08:00", tpm__state="off"),
    )
    fact = view.facts["tpm.state"]
    assert (fact.believed.value, fact.believed.source) == ("off", "collector")
    assert [(rival.value, rival.source) for rival in fact.rivals] == [("on", "assessor")]


def test_only_a_sources_newest_reading_counts() -> None:
    view = settled(
        reading("collector", "2027-01-10T08:00", tpm__state="off"),
        reading("collector", "2027-01-12T08:00", tpm__state="on"),
    )
    assert view.value("tpm.state") == "on"
    assert view.facts["tpm.state"].rivals == ()


def test_sources_within_the_tolerance_of_a_fact_agree() -> None:
    # 8,192 and 7,900 MiB differ by 3.6 %: firmware reserves some; 8,192 and 7,629 by 6.9 %.
    close = settled(
        reading("collector", "2027-01-10T08:00", memory__mib=8192),
        reading("assessor", "2027-01-11T08:00", memory__mib=7900),
    )
    far = settled(
        reading("collector", "2027-01-10T08:00", memory__mib=8192),
        reading("assessor", "2027-01-11T08:00", memory__mib=7629),
    )
    assert close.facts["memory.mib"].rivals == ()
    assert len(far.facts["memory.mib"].rivals) == 1


def test_a_passing_fact_ages_and_a_lasting_one_does_not() -> None:
    # The collector's passing facts count for 30 days: 18 December is 31 days before 18 January.
    old = settled(reading("collector", "2026-12-18T08:00", disk__free_gib=50, memory__mib=8192))
    edge = settled(reading("collector", "2026-12-19T08:00", disk__free_gib=50))
    assert "disk.free_gib" not in old.facts
    assert old.aged["disk.free_gib"].value == 50
    assert old.value("memory.mib") == 8192
    assert edge.value("disk.free_gib") == 50


@given(st.permutations(range(6)))
def test_the_order_of_readings_does_not_matter(order: list[int]) -> None:
    readings = [
        reading("assessor", "2027-01-10T08:00", memory__mib=4096, tpm__state="on"),
        reading("assessor", "2027-01-10T08:00", memory__mib=8192),
        reading("collector", "2027-01-09T08:00", memory__mib=16384),
        reading("operator", "2026-11-01T08:00", disk__free_gib=7),
        reading("nobody", "2027-01-12T08:00", memory__mib=2048),
        reading("collector", "2027-01-12T08:00", tpm__state="off"),
    ]
    assert settled(*[readings[at] for at in order]) == settled(*readings)


def test_worlds_are_every_combination_up_to_the_limit() -> None:
    view = settled(
        reading("collector", "2027-01-10T08:00", memory__mib=8192, tpm__state="on"),
        reading("assessor", "2027-01-11T08:00", memory__mib=4096, tpm__state="off"),
    )
    worlds = view.worlds(["memory.mib", "tpm.state"])
    assert worlds is not None
    assert {(w["memory.mib"], w["tpm.state"]) for w in worlds} == {
        (8192, "on"),
        (8192, "off"),
        (4096, "on"),
        (4096, "off"),
    }
    assert view.worlds(["memory.mib", "tpm.state"], most=3) is None
    assert SOURCES["collector"].trust > SOURCES["assessor"].trust


def test_situation_27_applications_keep_their_letters_and_spaces_and_agree_whatever_their_case() -> None:
    spec = BUILT_IN["care.applications"]
    named = frozenset({"Sheet Catalogue 4", "Étiquettes Köln"})
    assert spec.parse("Sheet Catalogue 4; Étiquettes Köln") == named
    assert spec.parse(["Sheet Catalogue 4", "Étiquettes Köln"]) == named
    assert spec.close(named, frozenset({"sheet catalogue 4", "étiquettes köln"}))
    assert BUILT_IN["cpu.features"].parse("AVX2 FMA") == frozenset({"avx2", "fma"})
