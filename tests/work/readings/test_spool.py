"""What an import has checked, between its two passes: nothing is lost, shared or not, from wherever it goes on."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from doorstone.formats.reading_records import Content, ReadingRecord
from doorstone.work.readings import spool
from doorstone.work.readings.spool import ReadyWriter, read_ready, told
from doorstone.work.snapshot.contents import batches

TIME = "2027-01-18T09:00:00"


def record(device: str, content: Content, about: dict[str, str] | None = None) -> ReadingRecord:
    return ReadingRecord(1, device, "file", TIME, content, about or {})


def passed(folder: Path, records: list[ReadingRecord], after: int = 0, size: int = 100) -> list[tuple[Any, ...]]:
    """What comes back of records that were written in blocks of `size`."""
    writer = ReadyWriter(folder / "ready")
    for part in batches(records, size):
        writer.write(part)
    writer.close()
    found = told(read_ready(folder / "ready", after))
    return [(one.device, one.source, one.taken_at, json.loads(one.body), one.about) for one in found]


def test_a_content_that_many_share_is_written_once(tmp_path: Path) -> None:
    shared, here = Content({"memory.mib": 8192}), {"site": "North"}
    found = passed(tmp_path, [record(f"d{n}", shared, here) for n in range(100)])
    assert [one[0] for one in found] == [f"d{n}" for n in range(100)]
    assert all(one[3:] == ({"facts": {"memory.mib": 8192}}, {"site": "North"}) for one in found)
    (block,) = read_ready(tmp_path / "ready")
    assert (len(block.readings), len(block.bodies), block.abouts) == (100, 1, [{"site": "North"}])


def test_everything_that_a_reading_can_say_comes_through(tmp_path: Path) -> None:
    said = Content({"cpu.features": frozenset({"fma", "avx2"})}, {"storage": False}, ("No chip",), {"tpm.state": "no"})
    found = passed(
        tmp_path,
        [record("d1", said, {"name": 'Ünder "the" stairs\t', "critical": "yes"}), record("d2", Content({}, {}, ()))],
    )
    assert found == [
        (
            "d1", "file", TIME,
            {
                "facts": {"cpu.features": ["avx2", "fma"]}, "verdicts": {"storage": False}, "texts": ["No chip"],
                "unread": {"tpm.state": "no"},
            },
            {"name": 'Ünder "the" stairs\t', "critical": 1},
        ),
        ("d2", "file", TIME, {"texts": []}, {}),
    ]  # fmt: skip


@settings(max_examples=40, deadline=None)
@given(st.lists(st.integers(0, 9), min_size=1, max_size=40), st.integers(0, 40), st.integers(1, 9))
def test_it_goes_on_from_anywhere_and_however_few_contents_are_held(
    tmp_path_factory: pytest.TempPathFactory, shares: list[int], after: int, size: int
) -> None:
    contents = [Content({"memory.mib": number}) for number in range(10)]
    records = [record(f"d{at}", contents[share]) for at, share in enumerate(shares)]
    whole = passed(tmp_path_factory.mktemp("whole"), records)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(spool, "MOST_HELD", 2)
        assert passed(tmp_path_factory.mktemp("part"), records, after, size) == whole[after:]
