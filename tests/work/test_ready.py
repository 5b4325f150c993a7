"""What an import has checked, between its two passes: nothing is lost, shared or not, from wherever it goes on."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from doorstone.formats.records import Content, ReadingRecord
from doorstone.work import ready
from doorstone.work.ready import ReadyWriter, read_ready

TIME = "2027-01-18T09:00:00"


def record(device: str, content: Content, **about: str) -> ReadingRecord:
    return ReadingRecord(1, device, "file", TIME, content, about)


def passed(folder: Path, records: list[ReadingRecord], after: int = 0) -> list[tuple[Any, ...]]:
    writer = ReadyWriter(folder / "ready", folder / "said")
    writer.write(records)
    writer.close()
    return [
        (one.device, one.source, one.taken_at, json.loads(one.body), one.about)
        for one in read_ready(folder / "ready", folder / "said", after)
    ]


def test_a_content_that_many_share_is_written_once(tmp_path: Path) -> None:
    shared = Content({"memory.mib": 8192})
    found = passed(tmp_path, [record(f"d{n}", shared, site="North") for n in range(100)])
    assert [one[0] for one in found] == [f"d{n}" for n in range(100)]
    assert all(one[3:] == ({"facts": {"memory.mib": 8192}}, {"site": "North"}) for one in found)
    assert len((tmp_path / "said").read_text("utf-8").splitlines()) == 1


def test_everything_that_a_reading_can_say_comes_through(tmp_path: Path) -> None:
    told = Content({"cpu.features": frozenset({"fma", "avx2"})}, {"storage": False}, ("No chip",), {"tpm.state": "no"})
    found = passed(
        tmp_path, [record("d1", told, name='Ünder "the" stairs\t', critical="yes"), record("d2", Content({}, {}, ()))]
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
        ("d2", "file", TIME, {"texts": []}, None),
    ]  # fmt: skip


@settings(max_examples=40, deadline=None)
@given(st.lists(st.integers(0, 9), min_size=1, max_size=40), st.integers(0, 40))
def test_it_goes_on_from_anywhere_and_however_few_contents_are_held(
    tmp_path_factory: pytest.TempPathFactory, shares: list[int], after: int
) -> None:
    contents = [Content({"memory.mib": number}) for number in range(10)]
    records = [record(f"d{at}", contents[share]) for at, share in enumerate(shares)]
    whole = passed(tmp_path_factory.mktemp("whole"), records)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(ready, "MOST_HELD", 2)
        assert passed(tmp_path_factory.mktemp("part"), records, after) == whole[after:]
