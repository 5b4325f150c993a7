"""Kits: the files with which one upgrade is carried out and undone. Same inputs, same bytes.

In: a `KitCase` (platform, release, route, override set, exceptions, gates). Out: the kit's files by path, or the
reasons why there may be none.
"""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence

from msgspec import Struct

from doorstone.core.kits.case import KitCase
from doorstone.core.kits.gates import GateResult
from doorstone.core.kits.overrides import Choice, OverrideSet
from doorstone.core.kits.runbook import restart_of, runbook, set_up_arguments
from doorstone.core.kits.scripts import AFTER, AREAS, LOADER, MEDIA, SYSTEM, Holds, KitTarget, scripts, set_up_script
from doorstone.core.kits.settings_store import (
    ANSWERS,
    Fill,
    KitFileChange,
    by_place,
    ini_text,
    loader_changes,
    media_changes,
    setting_text,
    store_changes,
)
from doorstone.core.platforms.platform import Platform, Route, Setting, Sort
from doorstone.core.sorting.assessment import Assessment, Finding

KIT_FORMAT = 1
EXECUTABLE = frozenset({"set-up"}.union(*(area.scripts for area in AREAS)))


class KitRefusal(Struct, frozen=True):
    """One reason why a kit is refused, and what to do about it."""

    subject: str
    reason: str
    hint: str


def kit_refusals(
    assessment: Assessment,
    excepted: Mapping[str, str],
    stale: Mapping[str, Sequence[str]],
    choice: Choice | None,
    gates: Iterable[GateResult],
    waived: Collection[str] = (),
) -> list[KitRefusal]:
    """Why no kit may be made. `excepted` maps requirement -> exception in force, `stale` exception -> changes.

    `waived` are the gates whose warnings somebody has waived with a reason.
    """
    found = []
    for finding in assessment.findings:
        name = finding.requirement.id
        if finding.finding is Finding.MET or name in excepted:
            continue
        title = finding.requirement.title
        if finding.finding in (Finding.UNREAD, Finding.DISPUTED):
            found.append(KitRefusal(name, f"{title} is {finding.finding}", "Read the device, or settle the dispute"))
        elif finding.fixes:
            found.append(KitRefusal(name, f"{title} can be fixed", f"Fix first: {finding.fixes[0].title}"))
        elif finding.sort is Sort.FLOOR:
            found.append(KitRefusal(name, f"{title} is a floor", "No kit carries a device over a floor"))
        else:
            found.append(KitRefusal(name, f"{title} has no approved exception in force", "Request an exception"))
    for exception, changes in sorted(stale.items()):
        hint = "Have an approver look again and confirm it"
        found.append(KitRefusal(exception, f"{exception} is stale: {'; '.join(changes)}", hint))
    if choice is not None and choice.best is None and choice.uncovered:
        uncovered = ", ".join(choice.uncovered)
        found.append(KitRefusal(uncovered, f"no override covers {uncovered}", "Choose another route or fix it"))
    for gate in gates:
        words = f"{gate.gate.title}: {gate.measured}"
        if gate.blocks:
            found.append(KitRefusal(gate.gate.id, words, gate.gate.todo))
        elif gate.waivable and gate.gate.id not in waived:
            hint = f"{gate.gate.todo.rstrip('.')}; or waive {gate.gate.id} with a reason"
            found.append(KitRefusal(gate.gate.id, f"{words} (a warning)", hint))
    return found


def render(case: KitCase, sign: Callable[[bytes], bytes] | None = None, fill: Fill | None = None) -> dict[str, bytes]:
    """The files of the kit by path, in order; `SHA256SUMS` last, over all the others.

    `sign` gives the signature of the manifest, which holds the digests of all that is put in or run. `fill` renders a
    template of a store that keeps settings so. Raises `StoreError`.
    """
    settings = by_place(setting for override in case.chosen.overrides for setting in override.settings)
    files: dict[str, bytes] = {}
    if answers := settings.pop(ANSWERS, []):
        files["answers.ini"] = ini_text(_heading(case), answers)
    areas = _areas(case, settings, fill, files)
    for area, pieces in areas.items():
        files |= scripts(
            area, case.id, pieces, _next_step(case, area), Holds(case.expires, case.machines, case.made_on)
        )
    arguments = set_up_arguments(case)
    files["set-up"] = set_up_script(case.id, case.platform.store.set_up, arguments, bool(answers))
    files["runbook.md"] = runbook(case, settings, answers, areas).encode()
    hashes = {name: hashlib.sha256(data).hexdigest() for name, data in sorted(files.items())}
    files["manifest.json"] = _manifest(case, {**settings, **({ANSWERS: answers} if answers else {})}, hashes)
    if sign is not None:
        files["manifest.sig"] = sign(files["manifest.json"])
    sums = {name: hashlib.sha256(data).hexdigest() for name, data in sorted(files.items())}
    files["SHA256SUMS"] = "".join(f"{digest}  {name}\n" for name, digest in sums.items()).encode()
    return dict(sorted(files.items()))


def preview_files(platform: Platform, name: str, release: str, fill: Fill) -> dict[str, str]:
    """What an override or a settings set by that id puts into a kit, by path. Raises `KeyError` or `StoreError`."""
    chosen = tuple(o for o in platform.overrides if o.id == name)
    sets = tuple(s for s in platform.sets if s.id == name)
    if not chosen and not sets:
        raise KeyError(name)
    route = min(chosen[0].routes) if chosen else Route.IN_PLACE
    day = platform.release(release).published
    case = KitCase(
        "KT-0000", platform, 0, "", release, route, "everything", ("DEVICE",), OverrideSet(chosen, (), ()), (), (), day,
        sets=sets,
    )  # fmt: skip
    kept = ("settings/", "after/", "media/", "loader/", "answers.ini")
    files = {path: data for path, data in render(case, None, fill).items() if path.startswith(kept)}
    files["arguments"] = " ".join(set_up_arguments(case)[6:]).encode()
    return {path: data.decode(errors="replace") for path, data in files.items() if data}


def _areas(
    case: KitCase, settings: Mapping[str, Sequence[Setting]], fill: Fill | None, files: dict[str, bytes]
) -> dict[KitTarget, list[KitFileChange]]:
    """What the kit changes, area by area; the files for it are put into `files`. The system's settings always stand."""
    found: dict[KitTarget, list[KitFileChange]] = {SYSTEM: []}
    overrides = case.chosen.overrides
    loaders = [o.loader for o in overrides if o.loader is not None]
    after = by_place(setting for wanted in case.sets for setting in wanted.settings)
    about = {"kit": case.id, "platform": case.platform.name, "release": case.release, "route": case.route.value}
    for area, folder, places in ((SYSTEM, "settings", settings), (AFTER, "after", after)):
        for place, held in places.items():
            pieces, made = store_changes(case.platform.store, place, held, folder, _heading(case), fill, about)
            found.setdefault(area, []).extend(pieces)
            files.update(made)
    for area, (pieces, made) in (
        (MEDIA, media_changes([f for o in overrides for f in o.files], loaders, case.patches)),
        (LOADER, loader_changes(loaders, case.patches)),
    ):
        if pieces:
            found[area] = pieces
            files.update(made)
    return found


def _heading(case: KitCase) -> str:
    return f"Kit {case.id}: {case.platform.name} {case.release}, {case.route}. Put in by apply, taken out by undo."


def _next_step(case: KitCase, area: KitTarget) -> str:
    if area is SYSTEM and restart_of(case) == "device":
        return "Restart the device, then run verify."
    return f"Now run {area.scripts[2]}."


def archive(name: str, files: Mapping[str, bytes]) -> bytes:
    """The files as a zip in one folder `name`, with fixed times, so that same files give the same bytes."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as bundle:
        for path, data in files.items():
            entry = zipfile.ZipInfo(f"{name}/{path}", (2020, 1, 1, 0, 0, 0))
            entry.compress_type = zipfile.ZIP_DEFLATED
            entry.external_attr = (0o755 if path in EXECUTABLE else 0o644) << 16
            bundle.writestr(entry, data)
    return buffer.getvalue()


def _manifest(case: KitCase, settings: Mapping[str, Sequence[Setting]], hashes: Mapping[str, str]) -> bytes:
    data = {
        "format": KIT_FORMAT,
        "kit": case.id,
        "made_on": case.made_on.isoformat(),
        "expires": case.expires.isoformat() if case.expires else None,
        "platform": case.platform.id,
        "sheet": {"revision": case.sheet_revision, "sha256": case.sheet_sha256},
        "release": case.release,
        "route": case.route.value,
        "carry_over": case.carry_over,
        "devices": list(case.devices),
        "exceptions": [
            {"id": e.id, "requirements": list(e.requirements), "expiry": e.expiry.isoformat()} for e in case.exceptions
        ],
        "overrides": [
            {"id": o.id, "kind": o.kind, "covers": sorted(o.covers), "restart": o.restart, "lasting": o.lasting}
            for o in case.chosen.overrides
        ],
        "excess": list(case.chosen.excess),
        "waived": dict(sorted(case.waived.items())),
        "settings": [
            {"place": s.place, "section": s.path, "name": s.name, "value": setting_text(s)}
            for held in settings.values()
            for s in held
        ],
        "sets": [wanted.id for wanted in case.sets],
        "media": {"id": case.media.id, "sha256": case.media.sha256} if case.media else None,
        "media_files": [
            {"path": f.path, "change": f.change, "before": f.before or None, "after": f.after or None}
            for o in case.chosen.overrides
            for f in o.files
        ],
        "loaders": [
            {"stick": o.loader.stick, "disk": o.loader.disk, "sha256": hashlib.sha256(o.loader.data).hexdigest()}
            for o in case.chosen.overrides
            if o.loader
        ],
        "patches": list(case.patches),
        "set_up": set_up_arguments(case),
        "files": dict(hashes),
    }
    return (json.dumps(data, indent=2, ensure_ascii=False) + "\n").encode()
