"""Settings in a JSON store and by templates: JSON Patch both ways, and scripts that really run on files."""

from __future__ import annotations

import copy
import hashlib
import json
import subprocess
from itertools import permutations
from pathlib import Path
from typing import Any

import jsonpatch
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from doorstone.core.kits.scripts import AFTER, SYSTEM, scripts
from doorstone.core.kits.settings_store import StoreError, json_changes, pointer, store_changes
from doorstone.core.platforms.platform import Setting, Store
from doorstone.formats.template_sandbox import TemplateError, fill_template

PLATES = Setting("scratch", "plates", "text", "small", "system")
DEPTH = Setting("scan/head", "depth", "integer", 12, "system")
SHIPPED = {"scratch": {"plates": "full", "keep-days": 30}, "network": {"share": "//herbarium/plates"}}
STORE = Store("json-file", {"system": "opt/brindle/settings.json"}, shipped={"system": SHIPPED})


def kit(
    folder: Path, held: list[Setting], area: Any = SYSTEM, store: Store = STORE, fill: Any = None, name: str = "KT-1"
) -> Path:
    """A kit's folder with the scripts of one area, its sums and what they put in."""
    place = "after" if area is AFTER else "settings"
    pieces, files = store_changes(store, "system", held, place, "Kit KT-1", fill, {"kit": "KT-1"})
    files |= scripts(area, name, pieces, "Now run verify.")
    for path, data in files.items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_bytes(data)
    sums = [f"{hashlib.sha256(data).hexdigest()}  {name}\n" for name, data in files.items()]
    (folder / "SHA256SUMS").write_text("".join(sums))
    return folder


def sh(script: Path, *words: object) -> subprocess.CompletedProcess[str]:
    return subprocess.run(["sh", str(script), *map(str, words)], capture_output=True, text=True, timeout=60)


def states(folder: Path, root: Path) -> dict[str, str]:
    return {row["name"]: row["state"] for row in json.loads(sh(folder / "verify", root).stdout)["settings"]}


@pytest.fixture
def root(tmp_path: Path) -> Path:
    place = tmp_path / "root"
    (place / "opt/brindle").mkdir(parents=True)
    (place / "opt/brindle/settings.json").write_text(json.dumps(SHIPPED, indent=4))
    return place


def held(root: Path) -> Any:
    return json.loads((root / "opt/brindle/settings.json").read_text())


def test_the_patch_tests_what_is_shipped_and_its_inverse_takes_it_back() -> None:
    patch, inverse = json_changes(SHIPPED, [PLATES, DEPTH])
    assert patch == [
        {"op": "test", "path": "/scratch/plates", "value": "full"},
        {"op": "replace", "path": "/scratch/plates", "value": "small"},
        {"op": "add", "path": "/scan", "value": {}},
        {"op": "add", "path": "/scan/head", "value": {}},
        {"op": "add", "path": "/scan/head/depth", "value": 12},
    ]
    assert inverse[:2] == [
        {"op": "test", "path": "/scan/head/depth", "value": 12},
        {"op": "remove", "path": "/scan/head/depth"},
    ]
    done = jsonpatch.apply_patch(SHIPPED, patch)
    assert jsonpatch.apply_patch(done, inverse) == SHIPPED
    assert pointer(Setting("a~b", "c", "flag", True, "system")) == "/a~0b/c"
    with pytest.raises(StoreError, match="/network/share is no object"):
        json_changes(SHIPPED, [Setting("network/share", "deep", "flag", True, "system")])


@pytest.mark.process
def test_apply_verify_undo_on_a_json_file(root: Path, tmp_path: Path) -> None:
    made, before = kit(tmp_path / "kit", [PLATES, DEPTH]), (root / "opt/brindle/settings.json").read_bytes()
    (root / "opt/brindle/settings.json").chmod(0o640)
    assert states(made, root) == {"plates": "different", "depth": "missing"}
    for _ in range(2):
        assert sh(made / "apply", root).returncode == 0
        assert held(root) == {
            **SHIPPED,
            "scratch": {"plates": "small", "keep-days": 30},
            "scan": {"head": {"depth": 12}},
        }
    assert states(made, root) == {"plates": "right", "depth": "right"}
    assert (root / "opt/brindle/settings.json").stat().st_mode & 0o777 == 0o640
    assert sh(made / "undo", root).returncode == 0
    assert (root / "opt/brindle/settings.json").read_bytes() == before
    assert not (root / ".doorstone").exists()


@pytest.mark.process
def test_what_is_not_as_shipped_is_refused_unless_it_is_taken_as_found(root: Path, tmp_path: Path) -> None:
    file = root / "opt/brindle/settings.json"
    file.write_text('{"scratch": {"plates": "half"}, "scan": {"lamp": 3}}')
    made = kit(tmp_path / "kit", [PLATES, DEPTH])
    refused = sh(made / "apply", root)
    assert refused.returncode == 4
    assert '/scratch/plates is "half", not "full"' in refused.stderr
    assert "Nothing was done" in refused.stderr
    assert held(root) == {"scratch": {"plates": "half"}, "scan": {"lamp": 3}}
    assert not (root / ".doorstone").exists()
    assert sh(made / "apply", root, "--as-found").returncode == 0
    assert held(root) == {"scratch": {"plates": "small"}, "scan": {"lamp": 3, "head": {"depth": 12}}}
    assert sh(made / "undo", root).returncode == 0
    assert file.read_text() == '{"scratch": {"plates": "half"}, "scan": {"lamp": 3}}'
    assert sh(made / "apply", root, "--whatever").returncode == 2


@pytest.mark.process
def test_what_others_changed_since_is_kept_by_undo(root: Path, tmp_path: Path) -> None:
    made = kit(tmp_path / "kit", [PLATES])
    sh(made / "apply", root)
    file = root / "opt/brindle/settings.json"
    file.write_text(json.dumps({**held(root), "lamp": "warm"}))
    assert sh(made / "undo", root).returncode == 0
    assert held(root) == {**SHIPPED, "lamp": "warm"}
    sh(made / "apply", root, "--as-found")
    file.write_text(json.dumps({**held(root), "scratch": {"plates": "tiny"}}))
    refused = sh(made / "undo", root)
    assert refused.returncode == 4
    assert "changed since in the same place" in refused.stderr
    assert held(root)["scratch"] == {"plates": "tiny"}


@pytest.mark.process
@pytest.mark.parametrize("order", list(permutations([0, 1, 2])), ids=str)
def test_kits_over_one_json_file_are_undone_in_any_order_to_the_very_bytes(
    root: Path, tmp_path: Path, order: tuple[int, ...]
) -> None:
    made = [
        kit(tmp_path / "a", [PLATES]), kit(tmp_path / "b", [DEPTH], name="KT-2"),
        kit(tmp_path / "c", [replace(PLATES, path="lamp")], name="KT-3"),
    ]  # fmt: skip
    file = root / "opt/brindle/settings.json"
    before = file.read_bytes()
    for one in made:
        assert sh(one / "apply", root, "--as-found").returncode == 0
    for at in order:
        done = sh(made[at] / "undo", root)
        assert done.returncode == 0, done.stderr
    assert file.read_bytes() == before
    assert [path.name for path in file.parent.iterdir()] == ["settings.json"]


@pytest.mark.process
def test_an_undo_that_cannot_take_out_one_part_touches_none(root: Path, tmp_path: Path) -> None:
    first = kit(tmp_path / "a", [PLATES, DEPTH])
    sh(first / "apply", root)
    file = root / "opt/brindle/settings.json"
    file.write_text(json.dumps({**held(root), "scan": {"head": {"depth": 99}}}))
    changed = file.read_bytes()
    done = sh(first / "undo", root)
    assert (done.returncode, "Nothing was undone" in done.stderr, file.read_bytes()) == (4, True, changed)


@pytest.mark.process
def test_a_setting_misspelt_in_json_is_a_near_miss(root: Path, tmp_path: Path) -> None:
    made = kit(tmp_path / "kit", [PLATES])
    (root / "opt/brindle/settings.json").write_text('{"scratch": {"plate": "small"}}')
    row = json.loads(sh(made / "verify", root).stdout)["settings"][0]
    assert (row["state"], row["near"], row["found"]) == ("near-miss", "plate", "small")
    assert row["slip"] == "letter 6: s is missing"


@pytest.mark.process
def test_a_file_that_is_no_json_is_left_alone(root: Path, tmp_path: Path) -> None:
    made = kit(tmp_path / "kit", [PLATES])
    (root / "opt/brindle/settings.json").write_text('{"scratch": }')
    refused = sh(made / "apply", root)
    assert refused.returncode == 4
    assert "not JSON at letter 13" in refused.stderr
    assert (root / "opt/brindle/settings.json").read_text() == '{"scratch": }'


@pytest.mark.process
def test_settings_for_afterwards_are_undone_apart_from_the_kits_others(root: Path, tmp_path: Path) -> None:
    first, after = kit(tmp_path / "kit", [PLATES]), kit(tmp_path / "after", [DEPTH], AFTER)
    sh(first / "apply", root)
    assert sh(after / "after-apply", root).returncode == 0
    assert sh(first / "undo", root).returncode == 0
    assert held(root) == {**SHIPPED, "scan": {"head": {"depth": 12}}}
    assert sh(after / "after-undo", root).returncode == 0
    assert held(root) == SHIPPED


words = st.text(st.characters(min_codepoint=32, max_codepoint=0x1F400, exclude_categories=["Cs"]), max_size=12)
scalars = st.none() | st.booleans() | st.integers(-(10**9), 10**9) | words
documents = st.dictionaries(
    words, scalars | st.lists(scalars, max_size=3) | st.dictionaries(words, scalars, max_size=3), max_size=5
)
names = st.text("abcXYZ-_.09", min_size=1, max_size=6).filter(lambda s: s[0] not in "-_.")
given_settings = st.lists(
    st.builds(Setting, names, names, st.just("text"), words, st.just("system")),
    min_size=1, max_size=4, unique_by=lambda s: (s.path, s.name),
)  # fmt: skip


@pytest.mark.process
@settings(max_examples=30, deadline=None)
@given(documents, given_settings)
def test_the_scripts_and_a_library_agree_and_undo_is_the_identity(
    tmp_path_factory: pytest.TempPathFactory, document: dict[str, Any], wanted: list[Setting]
) -> None:
    folder = tmp_path_factory.mktemp("json")
    store = replace(STORE, shipped={"system": document})
    try:
        patch, _ = json_changes(document, wanted)
    except StoreError:
        return
    file = folder / "root/opt/brindle/settings.json"
    file.parent.mkdir(parents=True)
    file.write_text(json.dumps(document, ensure_ascii=len(wanted) % 2 == 0))
    before = file.read_bytes()
    made = kit(folder / "kit", wanted, store=store)
    assert sh(made / "apply", folder / "root").returncode == 0
    assert json.loads(file.read_text()) == jsonpatch.apply_patch(copy.deepcopy(document), patch)
    assert set(states(made, folder / "root").values()) == {"right"}
    assert sh(made / "undo", folder / "root").returncode == 0
    assert file.read_bytes() == before


@pytest.mark.process
@pytest.mark.parametrize("steps", range(1, 9))
def test_a_patch_that_was_cut_off_half_way_is_undone_or_done_again(root: Path, tmp_path: Path, steps: int) -> None:
    made, before = kit(tmp_path / "kit", [PLATES, DEPTH]), (root / "opt/brindle/settings.json").read_bytes()
    script = (made / "apply").read_text()
    for word in ("cp -p ", "json apply ", "mv -f ", "digest "):
        script = script.replace(f"    {word}", f"    step; {word}").replace(f"then {word}", f"then step; {word}")
    script = script.replace("set -eu", f"set -eu\nn=0; step() {{ n=$((n + 1)); [ $n -lt {steps} ] || exit 9; }}", 1)
    (made / "half").write_text(script)
    assert sh(made / "half", root).returncode == (9 if steps < 8 else 0)
    if steps % 2:
        assert sh(made / "apply", root).returncode == 0
        assert set(states(made, root).values()) == {"right"}
    assert sh(made / "undo", root).returncode == 0
    assert (root / "opt/brindle/settings.json").read_bytes() == before
    assert [path.name for path in (root / "opt/brindle").iterdir()] == ["settings.json"]


# ---------------------------------------------------------------- templates

MANAGED = "# {{ kit }}\n{% for s in settings %}set {{ s.path }}/{{ s.name }} to {{ s.text }}\n{% endfor %}"
WHOLE = Store("templates", {"system": "etc/managed.conf"}, templates={"system": MANAGED})


@pytest.mark.process
def test_a_template_makes_the_whole_file_and_verify_looks_line_by_line(tmp_path: Path) -> None:
    place = tmp_path / "root"
    (place / "etc").mkdir(parents=True)
    (place / "etc/managed.conf").write_text("mine\n")
    made = kit(tmp_path / "kit", [PLATES, DEPTH], store=WHOLE, fill=fill_template)
    assert sh(made / "apply", place).returncode == 0
    text = "# KT-1\nset scratch/plates to small\nset scan/head/depth to 12\n"
    assert (place / "etc/managed.conf").read_text() == text
    (place / "etc/managed.conf").write_text(text.replace("plates", "plate").replace("set scan/head/depth to 12\n", ""))
    rows = json.loads(sh(made / "verify", place).stdout)["settings"]
    assert [row["state"] for row in rows] == ["right", "near-miss", "missing"]
    assert rows[1]["near"] == "set scratch/plate to small"
    assert rows[1]["slip"] == "letter 18: s is missing"
    sh(made / "undo", place)
    assert (place / "etc/managed.conf").read_text() == "mine\n"


@pytest.mark.process
@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("{{ ''.__class__.__mro__ }}", "unsafe"),
        ("{{ settings.append(1) }}", "unsafe"),
        ("{% include '/etc/passwd' %}", "loader"),
        ("{{ nothing_such }}", "'nothing_such' is undefined"),
        ("{% for a in range(99999) %}{{ 'x' * 1000 }}{% endfor %}", "more than 1,000,000 letters"),
        ("{{ 'x' * 999999999 }}", "memory"),
        ("{% for a in range(99999) %}{% for b in range(99999) %}{% endfor %}{% endfor %}", "longer than 2 seconds"),
        ("{% if %}", "line 1"),
    ],
)
def test_a_template_that_would_do_more_than_fill_is_stopped(text: str, message: str) -> None:
    with pytest.raises(TemplateError, match=message):
        fill_template(text, {"settings": []}, seconds=2)
