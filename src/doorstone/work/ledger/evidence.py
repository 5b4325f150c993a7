"""Evidence packs: what is in a scope, what the records hold about it, and the pack itself, sealed."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Iterable, Mapping
from datetime import date
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.kits.check import MANIFEST, SIGNATURE, SUMS
from doorstone.core.kits.files import archive
from doorstone.core.ledger.evidence import README, PackScope, chain_csv, pack_files
from doorstone.formats.signature import new_key, sign
from doorstone.store import attempts as attempt_store
from doorstone.store import fixes as fix_store
from doorstone.store import followups as followup_store
from doorstone.store import kits as kit_store
from doorstone.store import ledger as ledger_store
from doorstone.store import platforms as sheet_store
from doorstone.store import sorting as sorting_store
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import disputes as dispute_store
from doorstone.store.devices import lives as life_store
from doorstone.store.exceptions import exceptions as exception_store
from doorstone.store.exceptions.rows import ExceptionRow
from doorstone.store.keys import KIT_KEY, key_file
from doorstone.store.ledger import Entry
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.selecting import devices_of

MOST_DEVICES = 5_000
MOST_READINGS = 1_000


class EvidenceRequest(Struct, frozen=True):
    """What a pack is asked for; the parts of a scope add up. Without days: from the first entry through today."""

    devices: tuple[str, ...] = ()
    selection: str = ""
    sites: tuple[str, ...] = ()
    exception: str = ""
    start: date | None = None
    end: date | None = None
    everything: bool = False


def scope_of(context: Context, request: EvidenceRequest) -> PackScope:
    """The devices and exceptions of a pack. Raises `MissingError` or `BadInputError`."""
    today = context.today()
    with context.database.read() as db:
        first = ledger_store.first_at(db)
    start, end = request.start or date.fromisoformat(first[:10] or today.isoformat()), request.end or today
    if start > end or end > today:
        raise BadInputError(f"{start} to {end} is no period that has been", f"Give days up to {today}, the first first")
    names, words = set(request.devices), list(request.devices[:3]) + (["..."] if len(request.devices) > 3 else [])
    with context.database.read() as db:
        if request.selection:
            names |= set(devices_of(context, "", "", DeviceFilter(), request.selection))
            words.append(f"selection {request.selection}")
        for site in request.sites:
            names |= {row.id for row in device_store.at_site(db, site)}
            words.append(f"site {site}")
        if request.everything:
            names |= set(device_store.ids(db))
            words.append("the whole organisation")
        if request.exception:
            row = exception_store.get(db, number_of("EX", request.exception))
            if row is None:
                raise MissingError(f"There is no exception {request.exception!r}", "See them with 'exception list'")
            names |= set(row.devices)
            words.append(id_of("EX", row.id))
        if not names:
            hint = "Name devices, a selection, sites or an exception, or ask for everything"
            raise BadInputError("The evidence pack has no devices", hint)
        if len(names) > MOST_DEVICES:
            hint = f"Make a pack for each site, of up to {MOST_DEVICES:,} devices"
            raise BadInputError(f"The evidence pack would have {len(names):,} devices", hint)
        there = {row.id for row in device_store.named(db, names)}
        if missing := sorted(names - there):
            raise MissingError(f"There is no device {missing[0]!r}", "See them with 'doorstone device list'")
        found = [id_of("EX", row.id) for row in exception_store.naming(db, names) if _overlaps(row, start, end)]
    if request.exception:
        found = [name for name in found if name == id_of("EX", number_of("EX", request.exception))]
    return PackScope(", ".join(words), tuple(sorted(names)), tuple(sorted(found)), start, end)


def _overlaps(row: ExceptionRow, start: date, end: date) -> bool:
    last = row.ended_on or (row.decided_at[:10] if row.decided_at and not row.approvals else row.expires_on)
    return row.requested_at[:10] <= end.isoformat() and last[:10] >= start.isoformat()


def seal_pack(context: Context, scope: PackScope, parts: Mapping[str, bytes]) -> bytes:
    """The pack as a zip: `parts` made by others, and what the records hold. Same records, day and scope: same bytes."""
    with context.database.read() as db:
        files = dict(parts)
        kits = {row.id: row for device in scope.devices for row in kit_store.every(db, device)}
        for device in scope.devices:
            mine = json.loads(files.get(f"devices/{device}.json", b"{}"))
            files[f"devices/{device}.json"] = _json({**mine, **_device(db, device, scope)})
        for number in sorted(kits):
            files.update(_kit(db, number))
        platforms = {row.platform for row in device_store.named(db, scope.devices)}
        for platform in sorted(platforms):
            files.update(_sheets(db, platform, scope.end))
        decisions = [row for row in sorting_store.every(db) if row.platform in platforms]
        kept = [row for row in decisions if row.at[:10] <= scope.end.isoformat()]
        files["decisions.json"] = _json([{**asdict(row), "id": id_of("SD", row.id)} for row in kept])
        entries = _entries(db, scope, kits)
        files["ledger.ndjson"] = "".join(
            json.dumps(asdict(entry), ensure_ascii=False) + "\n" for entry in entries
        ).encode()
        first = min((entry.seq for entry in entries), default=ledger_store.last_seq(db))
        files["chain.csv"] = chain_csv(ledger_store.hashes(db, max(first - 1, 1)))
        as_of = context.today()
        files["README.md"] = README.format(scope=scope.words, start=scope.start, end=scope.end, as_of=as_of).encode()
        private = key_file(context.database.path.with_name(KIT_KEY), new_key)
        whole = pack_files(scope, as_of, ledger_store.head(db), files, lambda data: sign(private, data))
    return archive("evidence", whole)


def _json(data: Any) -> bytes:
    return (json.dumps(data, indent=1, ensure_ascii=False, default=str) + "\n").encode()


def _device(db: Any, device: str, scope: PackScope) -> dict[str, Any]:
    """What the records hold of a device in the period: life, attempts, what came of them, observations, readings."""
    last = f"{scope.end.isoformat()}T23:59:59"

    def until(rows: Iterable[Any], when: str, prefix: str = "") -> list[dict[str, Any]]:
        found = []
        for row in rows:
            if str(getattr(row, when)) <= last:
                data = row._asdict() if hasattr(row, "_asdict") else asdict(row)
                found.append({**data, "id": id_of(prefix, row.id)} if prefix else data)
        return found

    (row,) = device_store.named(db, [device])
    return {
        "device": device,
        "name": row.name,
        "site": row.site,
        "role": row.role,
        "critical": row.critical,
        "platform": row.platform,
        "model": row.model,
        "lives": [{**asdict(one.change), "by": one.by, "at": one.at} for one in life_store.of_device(db, device)
                  if one.at <= last],
        "attempts": until(attempt_store.every(db, device), "ended_at", "AT"),
        "follow_ups": [asdict(step) for step in followup_store.of_device(db, device)],
        "verifications": until(followup_store.verifications(db, device), "at", "VF"),
        "observations": until(attempt_store.observations(db, device), "seen_on", "OB"),
        "fixes": until(fix_store.of_device(db, device), "at", "FX"),
        "settlements": until(dispute_store.of_device(db, device), "at", "ST"),
        "readings": until(device_store.readings(db, device, MOST_READINGS), "taken_at"),
    }  # fmt: skip


def _kit(db: Any, number: int) -> dict[str, bytes]:
    """What a kit was made of: its manifest, signature and digests."""
    data = kit_store.archive(db, number)
    if data is None:
        return {}
    name, found = id_of("KT", number), {}
    with zipfile.ZipFile(io.BytesIO(data)) as bundle:
        for entry in bundle.namelist():
            path = entry.partition("/")[2]
            if path in (MANIFEST, SIGNATURE, SUMS):
                found[f"kits/{name}/{path}"] = bundle.read(entry)
    return found


def _sheets(db: Any, platform: str, end: date) -> dict[str, bytes]:
    found = {}
    for row in sheet_store.revisions(db, platform):
        if row.loaded_at[:10] <= end.isoformat():
            folder = f"sheets/{platform}/{row.revision}"
            found[f"{folder}/sheet.toml"] = row.text.encode()
            found |= {f"{folder}/{name}": text.encode() for name, text in row.lists.items()}
    return found


def _entries(db: Any, scope: PackScope, kits: Iterable[int]) -> list[Entry]:
    """The entries of the period on the devices, their exceptions, kits and sheets, and on the people who had a say."""
    objects = {("device", name) for name in scope.devices} | {("exception", name) for name in scope.exceptions}
    objects |= {("kit", id_of("KT", number)) for number in kits}
    objects |= {("sheet", row.platform) for row in device_store.named(db, scope.devices)}
    for name in scope.exceptions:
        row = exception_store.get(db, number_of("EX", name))
        if row is not None:
            people = {row.requester, row.owner, *(one.person for one in row.approvals), row.decided_by or ""}
            objects |= {("person", person) for person in people if person}
    found = {entry.seq: entry for kind, name in objects for entry in ledger_store.story(db, kind, name)}
    return [
        entry for _, entry in sorted(found.items()) if scope.start.isoformat() <= entry.at[:10] <= scope.end.isoformat()
    ]
