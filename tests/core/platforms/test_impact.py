"""Whether two sheets can foretell otherwise only where a finding differs."""

from __future__ import annotations

import pytest

from doorstone.core.platforms.impact import foretell_alike
from doorstone.demo.seed import sheet_text
from doorstone.formats.sheet import read_sheet
from tests.build import tarn


@pytest.mark.parametrize(
    ("old", "new", "alike"),
    [
        ("format = 1", "format = 1", True),
        ('has_all = ["avx2", "bmi2", "fma", "movbe"]', 'has_all = ["avx2"]', True),  # no fix gives a processor
        # with the version goes the state, which a fix gives
        ('"tpm.version", at_least_version = "2.0"', '"tpm.version", at_least_version = "1.2"', False),
        ("at_least = 6144", "at_least = 8192", False),  # a module more gives memory
        ('{ fact = "cpu.arch", is = "x86-64" }', '{ fact = "os.arch", is = "x86-64" }', False),  # a clean install does
        ('cost = "38.00"', 'cost = "40.00"', False),
        ("desk = 2027-11-30", "desk = 2027-10-31", False),
        ('until = "9.2"', 'until = "9.1"', False),
    ],
)
def test_sheets_that_differ_in_what_no_fix_gives_foretell_alike(old: str, new: str, alike: bool) -> None:
    text, lists = sheet_text()
    assert old in text
    assert foretell_alike(tarn(), read_sheet(text.replace(old, new), lists)) is alike


def test_a_list_without_a_name_is_another_condition_and_nothing_else() -> None:
    text, lists = sheet_text()
    shorter = {name: "\n".join(body.splitlines()[:-1]) + "\n" if "processors" in name else body
               for name, body in lists.items()}  # fmt: skip
    assert shorter != lists
    assert foretell_alike(tarn(), read_sheet(text, shorter))
