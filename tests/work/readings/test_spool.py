"""What an import has checked, between its two passes: nothing is lost, shared or not, from wherever it goes on."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from types import MappingProxyType
from typing import Any, NamedTuple, cast

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from doorstone.core.facts import BUILT_IN
from doorstone.core.readings.value_table import ValueTable
from doorstone.formats.reading_records import ReadingColumns, Rest
from doorstone.work.readings.spool import ReadyReader, ReadyWriter, SpoiledError
from doorstone.work.snapshot.contents import batches

TIME = "2027-01-18T09:00:00"
Row = tuple[str, dict[str, Any], dict[str, str]]


class Written(NamedTuple):
    table: ValueTable
    device: str
    facts: dict[str, Any]
    about: Mapping[str, str] = MappingProxyType({})
    rest: Rest | None = None


def columns(rows: list[Written]) -> list[ReadingColumns]:
    """Rows as columns, others for each stretch of them with the same table."""
    found: list[ReadingColumns] = []
    for table, device, facts, about, rest in rows:
        if not found or found[-1].table is not table:
            found.append(ReadingColumns(table))
        into = found[-1]
        if rest is not None:
            into.rest[len(into.lines)] = rest
        shape, numbers = table.coded(facts)
        places = (into.lines, into.devices, into.sources, into.times, into.abouts, into.shapes, into.numbers)
        for column, value in zip(places, (1, device, "file", TIME, about, shape, numbers), strict=True):
            cast(list[Any], column).append(value)
    return found


def passed(folder: Path, parts: list[list[Written]], after: int = 0) -> list[tuple[Any, ...]]:
    """What comes back of rows that were written block by block."""
    writer = ReadyWriter(folder / "ready")
    for part in parts:
        writer.write(columns(part))
    writer.close()
    ready, found = ReadyReader(folder / "ready"), []
    for block in ready.blocks(after):
        for at, device in enumerate(block.devices):
            texts = [ready.values[n][1] for n in block.numbers[at]]
            facts = dict(zip(ready.shapes[block.shape[at]], texts, strict=True))
            about = block.abouts[block.about[at]]
            found.append((device, block.sources[at], block.times[at], facts, block.more.get(at, ""), about))
    return found


def test_a_value_that_many_share_is_written_once(tmp_path: Path) -> None:
    table = ValueTable(BUILT_IN)
    records = [Written(table, f"d{n}", {"memory.mib": 8192}, {"site": "North"}) for n in range(100)]
    found = passed(tmp_path, [records[:60], records[60:]])
    assert [one[0] for one in found] == [*sorted(f"d{n}" for n in range(60)), *(f"d{n}" for n in range(60, 100))]
    assert all(one[3:] == ({"memory.mib": "8192"}, "", {"site": "North"}) for one in found)
    first, second = ReadyReader(tmp_path / "ready").blocks()
    assert (first.values, second.values, second.abouts) == ([("memory.mib", "8192")], [], [{"site": "North"}])


def test_everything_that_a_reading_can_say_comes_through(tmp_path: Path) -> None:
    table = ValueTable(BUILT_IN)
    all_of_it = Rest({"storage": False}, ("No chip",), {"tpm.state": "no"})
    about = {"name": 'Ünder "the" stairs\t', "critical": "yes"}
    found = passed(
        tmp_path,
        [
            [
                Written(table, "d1", {"cpu.features": ["fma", "avx2"]}, about, all_of_it),
                Written(table, "d2", {}, {}, Rest(texts=())),
            ]
        ],
    )
    assert found == [
        (
            "d1", "file", TIME, {"cpu.features": '["avx2","fma"]'},
            '{"texts":["No chip"],"unread":{"tpm.state":"no"},"verdicts":{"storage":false}}',
            {"name": 'Ünder "the" stairs\t', "critical": 1},
        ),
        ("d2", "file", TIME, {}, '{"texts":[]}', {}),
    ]  # fmt: skip
    assert [dict(one.facts) for one in ReadyReader(tmp_path / "ready").readings()] == [
        {"cpu.features": ["avx2", "fma"]}, {},
    ]  # fmt: skip


@settings(max_examples=40)
@given(
    st.lists(st.tuples(st.integers(0, 9), st.booleans(), st.booleans()), min_size=1, max_size=40),
    st.integers(0, 40), st.integers(1, 9),
)  # fmt: skip
def test_it_goes_on_from_anywhere_and_whenever_a_table_of_values_ends(
    tmp_path_factory: pytest.TempPathFactory, drawn: list[tuple[int, bool, bool]], after: int, size: int
) -> None:
    table, records = ValueTable(BUILT_IN), []
    for at, (memory, cores, ends) in enumerate(drawn):
        table = ValueTable(BUILT_IN) if ends else table
        facts = {"memory.mib": memory, **({"cpu.cores": memory} if cores else {})}
        records.append(Written(table, f"d{at:02}", facts))
    parts = list(batches(records, size))
    whole = passed(tmp_path_factory.mktemp("whole"), parts)
    assert [one[3] for one in whole] == [
        {"memory.mib": str(memory), **({"cpu.cores": str(memory)} if cores else {})} for memory, cores, _ in drawn
    ]
    assert passed(tmp_path_factory.mktemp("part"), parts, after) == whole[after:]


def test_a_spool_of_another_version_is_named(tmp_path: Path) -> None:
    raw = msgspec.msgpack.encode([True, [["memory.mib", "8192"]], [["memory.mib"]], [{}], [["d1", "file", TIME, 0]]])
    (tmp_path / "IM-0001.ready").write_bytes(len(raw).to_bytes(8, "big") + raw)
    with pytest.raises(SpoiledError, match=r"IM-0001\.ready was written by another version of the service"):
        list(ReadyReader(tmp_path / "IM-0001.ready").blocks())
