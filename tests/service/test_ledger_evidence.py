"""Evidence packs: complete, the same for the same records; whatever was altered in one is named offline."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Callable
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from doorstone.client import BadInputError, Client, MissingError
from doorstone.core.ledger.evidence import pack_faults
from doorstone.formats.signature import fits, new_key, public_key
from doorstone.service.evidence_files import evidence_pack
from doorstone.work.context.context import Context
from doorstone.work.kits.kits import signing_key
from doorstone.work.ledger.evidence import EvidenceRequest
from tests.asking import on
from tests.running import Run, data


def files_of(pack: bytes) -> dict[str, bytes]:
    with zipfile.ZipFile(io.BytesIO(pack)) as bundle:
        return {entry.partition("/")[2]: bundle.read(entry) for entry in bundle.namelist()}


def faults(files: dict[str, bytes], public: bytes, kept: str = "") -> list[str]:
    return list(pack_faults(files, lambda manifest, signature: fits(public, manifest, signature), kept))


def test_a_pack_holds_what_an_auditor_asks(demo: Context) -> None:
    files = files_of(evidence_pack(demo, EvidenceRequest(exception="EX-0001")))
    assert set(files) >= {
        "README.md", "register.csv", "uncovered.csv", "decisions.json", "ledger.ndjson", "chain.csv", "manifest.json",
        "manifest.sig", "exceptions/EX-0001.html", "exceptions/EX-0001.json", "devices/nbt-101.json",
        "devices/nbt-102.json", "kits/KT-0001/manifest.json", "kits/KT-0002/manifest.json", "sheets/tarn/1/sheet.toml",
        "sheets/tarn/2/tarn-9-processors.csv",
    }  # fmt: skip
    assert "EX-0007" not in files["register.csv"].decode()
    device = json.loads(files["devices/nbt-102.json"])
    assert [one["outcome"] for one in device["attempts"]] == ["completed", "refused"]
    assert [one["requirement"] for one in device["account"]["permissions"]] == ["processor-listed", "security-chip"]
    assert device["account"]["permissions"][1]["approved_by"] == ["anselm"]
    assert {reading["source"] for reading in device["readings"]} >= {"assessor", "attempt"}
    manifest = json.loads(files["manifest.json"])
    assert manifest["period"] == {"from": "2026-06-01", "through": "2027-01-18"}
    told = [json.loads(line)["action"] for line in files["ledger.ndjson"].decode().splitlines()]
    assert {"exception requested", "exception approved", "kit made", "attempt completed", "person added"} <= set(told)
    assert faults(files, signing_key(demo)) == []


def test_the_same_records_give_the_same_bytes_whenever_it_is_asked_that_day(demo: Context) -> None:
    asked = EvidenceRequest(sites=("Herbarium",), start=date(2026, 9, 1), end=date(2027, 1, 15))
    first = evidence_pack(demo, asked)
    assert evidence_pack(on(demo, "2027-01-18"), asked) == first
    assert evidence_pack(on(demo, "2027-01-19"), asked) != first
    told = [json.loads(line) for line in files_of(first)["ledger.ndjson"].decode().splitlines()]
    assert {entry["at"][:10] for entry in told} <= {f"2026-{m:02d}-{d:02d}" for m in range(9, 13) for d in range(1, 32)
                                                    } | {f"2027-01-{d:02d}" for d in range(1, 16)}  # fmt: skip


def test_devices_that_are_gone_and_devices_that_no_sheet_knows_are_in_it_too(demo: Context) -> None:
    files = files_of(evidence_pack(demo, EvidenceRequest(sites=("Visitor Gate",))))
    retired, unknown = (json.loads(files[f"devices/{name}.json"]) for name in ("nbt-194", "nbt-196"))
    assert [one["life"] for one in retired["lives"]] == ["retired"]
    assert "fennel" in unknown["account"]["unknown"]
    assert len(unknown["readings"]) == 1


@pytest.fixture(scope="module")
def pack(seeded_data: Path, tmp_path_factory: pytest.TempPathFactory) -> tuple[dict[str, bytes], bytes]:
    from doorstone.store.database import Database
    from doorstone.work.context.clock import FixedClock
    from tests.conftest import NOW, copy_of

    folder = copy_of(seeded_data, tmp_path_factory.mktemp("evidence") / "data")
    context = Context(Database(folder / "doorstone.db"), FixedClock(NOW))
    made = files_of(evidence_pack(context, EvidenceRequest(devices=("nbt-101",)))), signing_key(context)
    context.database.close()
    return made


@given(drawn=st.data())
def test_whatever_is_altered_is_named(pack: tuple[dict[str, bytes], bytes], drawn: st.DataObject) -> None:
    files, public = dict(pack[0]), pack[1]
    path = drawn.draw(st.sampled_from(sorted(files)))
    how = drawn.draw(st.sampled_from(["byte", "gone", "more"]))
    if how == "gone":
        del files[path]
    elif how == "more":
        files[f"{path}.more"] = b"x"
    else:
        at = drawn.draw(st.integers(0, len(files[path]) - 1))
        files[path] = files[path][:at] + bytes([files[path][at] ^ 1]) + files[path][at + 1 :]
    found = faults(files, public)
    named = "signature" if path == "manifest.sig" and how == "byte" else path
    if path == "manifest.sig" and how == "gone":
        named = "not signed"
    if path == "manifest.json" and how == "byte":
        named = "manifest"
    assert any(named in fault for fault in found), found


def test_an_entry_that_is_written_anew_is_named_by_its_number(pack: tuple[dict[str, bytes], bytes]) -> None:
    files = dict(pack[0])
    lines = files["ledger.ndjson"].decode().splitlines()
    entry = json.loads(lines[3])
    lines[3] = json.dumps({**entry, "actor": "nobody"})
    files["ledger.ndjson"] = ("\n".join(lines) + "\n").encode()
    assert faults(files, pack[1]) == ["ledger.ndjson was changed", f"entry {entry['seq']} of the ledger was altered"]
    head = json.loads(files["manifest.json"])["ledger_head"]
    assert faults(dict(pack[0]), pack[1], head) == []
    seq = head.partition(":")[0]
    assert faults(dict(pack[0]), pack[1], f"{seq}:{'0' * 64}") == [
        f"entry {seq} is not the one that was noted elsewhere"
    ]
    other = public_key(new_key())
    assert faults(dict(pack[0]), other) == [
        "its signature does not fit: the manifest was changed, or another service made it"
    ]


def test_what_cannot_be_asked_is_said(as_role: Callable[[str], Client]) -> None:
    client = as_role("viewer")
    with pytest.raises(BadInputError, match="has no devices"):
        client.evidence()
    with pytest.raises(MissingError, match="EX-0999"):
        client.evidence(exception="EX-0999")
    with pytest.raises(MissingError, match="nbt-999"):
        client.evidence(devices=["nbt-101", "nbt-999"])
    with pytest.raises(BadInputError, match="no period"):
        client.evidence(devices=["nbt-101"], start=date(2027, 1, 10), end=date(2027, 1, 9))


def test_it_is_written_and_checked_on_the_command_line(look: Run, tmp_path: Path) -> None:
    pack, key = tmp_path / "pack.zip", tmp_path / "key.pem"
    made = look("evidence", "make", "--exception", "EX-0001", "--into", pack, by="odile")
    assert made.returncode == 0, made.stderr
    assert look("kit", "key", "--into", key, by="odile").returncode == 0
    good = look("evidence", "check", pack, "--key", key)
    assert (good.returncode, "files are as they were made" in good.stderr) == (0, True)
    files = files_of(pack.read_bytes())
    with zipfile.ZipFile(pack, "w") as bundle:
        for name, held in files.items():
            bundle.writestr(f"evidence/{name}", held.replace(b"anselm", b"joss-w") if "register" in name else held)
    bad = look("evidence", "check", pack, "--key", key, "--format", "json")
    assert bad.returncode == 1
    assert json.loads(bad.stdout)["faults"] == ["register.csv was changed"]
    with zipfile.ZipFile(pack, "w") as bundle:
        for name, held in {**{f"evidence/{name}": held for name, held in files.items()}, "more.txt": b"x"}.items():
            bundle.writestr(name, held)
    stray = look("evidence", "check", pack, "--key", key, "--format", "json")
    assert json.loads(stray.stdout)["faults"] == ["more.txt lies outside the evidence pack's folder"]
    with zipfile.ZipFile(pack) as bundle:
        bundle.extractall(tmp_path / "unpacked")
    assert look("evidence", "check", tmp_path / "unpacked", "--key", key).returncode == 0
    pack.write_bytes(b"no zip")
    assert look("evidence", "check", pack).returncode == 4
    assert data(look("exception", "list", "--format", "json", by="odile"))
