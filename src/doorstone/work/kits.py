"""Kits: making one for a device, release and route, and handing out its files."""

from __future__ import annotations

import hashlib
import io
import zipfile
from dataclasses import dataclass
from datetime import date

from doorstone.core.gates import check_gates
from doorstone.core.kits import KitCase, KitException, archive, kit_refusals, render
from doorstone.core.overrides import OverrideSet, choose
from doorstone.core.platforms import Route
from doorstone.store import exceptions as exception_store
from doorstone.store import kits as store
from doorstone.store.exceptions import ExceptionRow
from doorstone.work.desk import Actor, Desk, id_of, made_before, number_of, record
from doorstone.work.devices import target_release
from doorstone.work.errors import BadInputError, MissingError, RefusedError, Trouble
from doorstone.work.exceptions import stale_devices
from doorstone.work.picture import Picture, picture, terms
from doorstone.work.sheets import need_release

CARRY_OVER = ("everything", "files", "nothing")


@dataclass(frozen=True, slots=True)
class KitFile:
    path: str
    text: str


@dataclass(frozen=True, slots=True)
class Kit:
    id: str
    row: store.KitRow
    files: tuple[KitFile, ...]


def make_kit(desk: Desk, actor: Actor, device: str, release: str, route: str, carry_over: str) -> Kit:
    """Make the kit for exactly what is excepted. Raises `RefusedError` with every reason why there may be none."""
    if route not in (Route.IN_PLACE, Route.CLEAN):
        raise BadInputError(f"{route!r} is not a route of a kit", "Use in-place or clean")
    if carry_over not in CARRY_OVER or (route == Route.CLEAN) != (carry_over == "nothing"):
        raise BadInputError(
            f"The {route} route cannot carry over {carry_over!r}", "In place: everything or files. Clean: nothing"
        )
    with desk.database.write() as db:
        if before := made_before(db, actor):
            return get_kit(desk, before)
        now = picture(desk)
        now.device(device)
        release = release or target_release(now.need_sheet(device).platform, desk.today())
        number = store.next_id(db)
        held = exception_store.of_device(db, device)
        case = _case(now, id_of("KT", number), device, release, Route(route), carry_over, held)
        bundle = archive(case.id, render(case))
        values = {
            "id": number,
            "platform": case.platform.id,
            "sheet_revision": case.sheet_revision,
            "release": release,
            "route": route,
            "carry_over": carry_over,
            "device": device,
            "overrides": list(case.chosen.ids),
            "exceptions": [e.id for e in case.exceptions],
            "sha256": hashlib.sha256(bundle).hexdigest(),
            "made_by": actor.name,
            "made_at": desk.now(),
        }
        store.add(db, values, bundle)
        record(desk, db, actor, "kit made", "kit", case.id, values, creates=True)
    return get_kit(desk, case.id)


def _case(
    now: Picture,
    kit: str,
    device: str,
    release: str,
    route: Route,
    carry_over: str,
    rows: list[ExceptionRow],
) -> KitCase:
    sheet = now.need_sheet(device)
    platform, view = sheet.platform, now.views[device]
    need_release(platform, release)
    assessment = now.assessment(device, release)
    unmet = {f.requirement.id for f in assessment.unmet()}
    excepted: dict[str, str] = {}
    stale: dict[str, list[str]] = {}
    used: list[ExceptionRow] = []
    for row in sorted(rows, key=lambda r: r.id):
        held = terms(row)
        names = unmet & held.requirements
        if not (names and held.in_force(now.today) and held.reaches(platform, release)):
            continue
        if changes := stale_devices(row, now).get(device):
            stale[held.id] = changes
            continue
        used.append(row)
        excepted |= dict.fromkeys(names, held.id)
    stale = {name: changes for name, changes in stale.items() if not unmet <= set(excepted)}
    choice = choose(platform, release, route, view.values(), view.as_of, set(excepted), set(excepted))
    gates = check_gates(platform, route, view)
    refused = kit_refusals(assessment, excepted, stale, choice, gates)
    if refused:
        troubles = [Trouble(f"{device}, {r.subject}", r.reason, r.mend) for r in refused]
        raise RefusedError(f"No kit can be made for {device} to {release}", "Mend each reason first", troubles)
    return KitCase(
        kit,
        platform,
        sheet.revision,
        sheet.sha256,
        release,
        route,
        carry_over,
        (device,),
        choice.best or OverrideSet((), (), ()),
        tuple(_said(row) for row in used),
        gates,
        now.today,
    )


def _said(row: ExceptionRow) -> KitException:
    expiry = date.fromisoformat(row.expires_on)
    return KitException(id_of("EX", row.id), row.requirements, expiry, row.conditions, row.acknowledged_by)


def get_kit(desk: Desk, name: str) -> Kit:
    """A kit with its files as text. Raises `MissingError`."""
    number = number_of("KT", name)
    with desk.database.read() as db:
        row = store.get(db, number)
    if row is None:
        raise MissingError(f"There is no kit {name!r}", "See them with 'doorstone kit list'")
    with zipfile.ZipFile(io.BytesIO(kit_archive(desk, name))) as bundle:
        files = [KitFile(path.removeprefix(f"{name}/"), bundle.read(path).decode()) for path in bundle.namelist()]
    return Kit(name, row, tuple(files))


def kit_archive(desk: Desk, name: str) -> bytes:
    """The kit as a zip. Raises `MissingError`."""
    with desk.database.read() as db:
        data = store.archive(db, number_of("KT", name))
    if data is None:
        raise MissingError(f"There is no kit {name!r}", "See them with 'doorstone kit list'")
    return data


def list_kits(desk: Desk, device: str = "") -> list[tuple[str, store.KitRow]]:
    with desk.database.read() as db:
        return [(id_of("KT", row.id), row) for row in store.every(db, device or None)]
