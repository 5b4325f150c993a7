"""Kits: the files with which one upgrade is carried out and undone. Same inputs, same bytes.

In: a `KitCase` (platform, release, route, override set, exceptions, gates). Out: the kit's files by path, or the
reasons why there may be none.
"""

from __future__ import annotations

import hashlib
import io
import json
import shlex
import zipfile
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date

from doorstone.core import kit_scripts
from doorstone.core.gates import GateResult
from doorstone.core.overrides import Choice, OverrideSet
from doorstone.core.platforms import Platform, Route, Setting, Sort
from doorstone.core.sorting import Assessment, Finding

DROP_IN = "60-doorstone.ini"
ANSWERS = "answers"  # the place of settings that go to set-up as an answer file
EXECUTABLE = ("apply", "undo", "verify", "set-up")


@dataclass(frozen=True, slots=True)
class KitException:
    """What the runbook and the manifest say of an exception."""

    id: str
    requirements: tuple[str, ...]
    expiry: date
    conditions: str
    acknowledged_by: str


@dataclass(frozen=True, slots=True)
class KitCase:
    """Everything a kit is made of. `carry_over` is everything, files or nothing."""

    id: str
    platform: Platform
    sheet_revision: int
    sheet_sha256: str
    release: str
    route: Route
    carry_over: str
    devices: tuple[str, ...]
    chosen: OverrideSet
    exceptions: tuple[KitException, ...]
    gates: tuple[GateResult, ...]
    made_on: date


@dataclass(frozen=True, slots=True)
class KitRefusal:
    """One reason why a kit is refused, and what to do about it."""

    subject: str
    reason: str
    mend: str


def kit_refusals(
    assessment: Assessment,
    excepted: Mapping[str, str],
    stale: Mapping[str, Sequence[str]],
    choice: Choice | None,
    gates: Iterable[GateResult],
) -> list[KitRefusal]:
    """Why no kit may be made. `excepted` maps requirement -> exception in force, `stale` exception -> changes."""
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
        mend = "Have it looked at again: request a new exception"
        found.append(KitRefusal(exception, f"{exception} is stale: {'; '.join(changes)}", mend))
    if choice is not None and choice.best is None and choice.uncovered:
        uncovered = ", ".join(choice.uncovered)
        found.append(KitRefusal(uncovered, f"no override covers {uncovered}", "Choose another route or fix it"))
    for gate in gates:
        if gate.blocks:
            found.append(KitRefusal(gate.gate.id, f"{gate.gate.title}: {gate.measured}", gate.gate.todo))
    return found


def render(case: KitCase) -> dict[str, bytes]:
    """The files of the kit by path, in order; `SHA256SUMS` last, over all the others."""
    settings = _settings_by_place(case)
    files: dict[str, bytes] = {}
    for place, held in settings.items():
        name = "answers.ini" if place == ANSWERS else f"settings/{place}.ini"
        files[name] = _ini(case, held)
    targets = [
        (f"settings/{place}.ini", case.platform.store.places[place], place) for place in settings if place != ANSWERS
    ]
    files["apply"] = _script(case, kit_scripts.APPLY, targets)
    files["undo"] = _script(case, kit_scripts.UNDO, targets)
    files["verify"] = _script(case, kit_scripts.VERIFY, targets)
    files["set-up"] = _set_up(case, ANSWERS in settings)
    files["runbook.md"] = _runbook(case, settings).encode()
    hashes = {name: hashlib.sha256(data).hexdigest() for name, data in sorted(files.items())}
    files["manifest.json"] = _manifest(case, settings, hashes)
    sums = {name: hashlib.sha256(data).hexdigest() for name, data in sorted(files.items())}
    files["SHA256SUMS"] = "".join(f"{digest}  {name}\n" for name, digest in sums.items()).encode()
    return dict(sorted(files.items()))


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


def setting_text(setting: Setting) -> str:
    """A setting's value as the store's files hold it; list items are joined by a semicolon."""
    if isinstance(setting.value, bool):
        return "true" if setting.value else "false"
    if isinstance(setting.value, list | tuple):
        return "; ".join(str(item) for item in setting.value)
    return str(setting.value)


def _settings_by_place(case: KitCase) -> dict[str, list[Setting]]:
    """Settings by place, merged where two overrides add to one list."""
    merged: dict[tuple[str, str, str], Setting] = {}
    for override in case.chosen.overrides:
        for setting in override.settings:
            key = (setting.place, setting.path, setting.name)
            held = merged.get(key)
            if held is not None and setting.type == "list":
                items = [*held.value, *(item for item in setting.value if item not in held.value)]
                setting = Setting(setting.path, setting.name, "list", items, setting.place)
            merged[key] = setting
    places: dict[str, list[Setting]] = {}
    for (place, _, _), setting in sorted(merged.items()):
        places.setdefault(place, []).append(setting)
    return places


def _ini(case: KitCase, settings: Sequence[Setting]) -> bytes:
    lines = [f"# Kit {case.id}: {case.platform.name} {case.release}, {case.route}. Put in by apply, taken out by undo."]
    section = None
    for setting in settings:
        if setting.path != section:
            section = setting.path
            lines.append(f"[{section}]")
        lines.append(f"{setting.name} = {setting_text(setting)}")
    return ("\n".join(lines) + "\n").encode()


def _script(case: KitCase, template: str, targets: Sequence[tuple[str, str, str]]) -> bytes:
    quote = shlex.quote
    numbered = list(enumerate(targets, 1))
    puts = [f"put {n} {quote(source)} {quote(f'{folder}/{DROP_IN}')}" for n, (source, folder, _) in numbered]
    backs = [f"back {n} {quote(f'{folder}/{DROP_IN}')}" for n, (_, folder, _) in reversed(numbered)]
    looks = [f"look {quote(place)} {quote(source)} {quote(folder)}" for source, folder, place in targets]
    after = "Restart the device, then run verify." if _restart(case) == "device" else "Now run verify."
    words = {
        "@PUTS@": "\n".join(puts) or ":",
        "@BACKS@": "\n".join(backs) or ":",
        "@LOOKS@": "\n".join(looks) or ":",
        "@QUOTED_NEXT@": quote(after),
    }
    return _fill(template, case, words)


def _fill(template: str, case: KitCase, words: Mapping[str, str]) -> bytes:
    text = template.replace("@ID@", case.id).replace("@QUOTED_ID@", shlex.quote(case.id))
    for word, value in words.items():
        text = text.replace(word, value)
    return text.encode()


def set_up_arguments(case: KitCase) -> list[str]:
    """The arguments for set-up: release, route, then those of the overrides in order, each once."""
    arguments = ["--release", case.release, "--route", case.route.value, "--carry-over", case.carry_over]
    for override in case.chosen.overrides:
        arguments += [word for word in override.arguments if word not in arguments]
    return arguments


def _set_up(case: KitCase, answers: bool) -> bytes:
    words = " ".join(shlex.quote(word) for word in set_up_arguments(case))
    if answers:
        words += ' --answers "$here/answers.ini"'
    program = case.platform.store.set_up
    return _fill(kit_scripts.SET_UP, case, {"@ARGUMENTS@": words, "@RAW_PROGRAM@": program, "@PROGRAM@": program})


def _manifest(case: KitCase, settings: Mapping[str, Sequence[Setting]], hashes: Mapping[str, str]) -> bytes:
    data = {
        "format": 1,
        "kit": case.id,
        "made_on": case.made_on.isoformat(),
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
        "settings": [
            {"place": s.place, "section": s.path, "name": s.name, "value": setting_text(s)}
            for held in settings.values()
            for s in held
        ],
        "set_up": set_up_arguments(case),
        "files": dict(hashes),
    }
    return (json.dumps(data, indent=2, ensure_ascii=False) + "\n").encode()


def _restart(case: KitCase) -> str:
    words = {o.restart for o in case.chosen.overrides}
    return "device" if "device" in words else "set-up" if "set-up" in words else "none"


def _runbook(case: KitCase, settings: Mapping[str, Sequence[Setting]]) -> str:
    platform = case.platform
    sections = [
        f"# Runbook: {platform.name} {case.release} on {', '.join(case.devices)}\n\n"
        f"Kit {case.id}, route {case.route}, carries over: {case.carry_over}. "
        f"Sheet revision {case.sheet_revision}. Made on {case.made_on}.",
        _gate_section(case),
        "## 2. Before anything changes\n\n"
        "- [ ] Close every program and sign out everybody else.\n"
        "- [ ] `apply` copies what it changes to `/.doorstone/" + case.id + "` first. Nothing to do by hand.",
        _settings_section(case, settings),
        _restart_section(case),
        "## 5. Start set-up\n\n- [ ] Put in the media for release "
        f"{case.release}.\n- [ ] Run `sh set-up`. It starts set-up with:\n\n"
        f"      {platform.store.set_up} {shlex.join(set_up_arguments(case))}",
        _bullets("## 6. What you will see", [line for o in case.chosen.overrides for line in o.expect])
        or "## 6. What you will see\n\nNothing unusual is expected.",
        _bullets("### Take care", [line for o in case.chosen.overrides for line in o.cautions]),
        _accept_section(case),
        _bullets(
            "## 8. After", [f"{'**Blocking.** ' if f.blocking else ''}{f.title}. {f.todo}" for f in platform.followups]
        )
        or "## 8. After\n\nNothing further.",
        "## 9. To undo the settings\n\n- Run `sh undo`. It puts back the copies that `apply` took and removes "
        f"what was not there before.\n- The upgrade itself can be rolled back for "
        f"{platform.release(case.release).rollback_days} days after it completes.",
    ]
    return "\n\n".join(part for part in sections if part) + "\n"


def _bullets(title: str, lines: Sequence[str]) -> str:
    return title + "\n\n" + "\n".join(f"- [ ] {line}" for line in lines) if lines else ""


def _gate_section(case: KitCase) -> str:
    lines = [
        f"- [ ] {g.gate.title}: {g.result} ({g.measured})" + ("" if g.result == "holds" else f". {g.gate.todo}")
        for g in case.gates
    ]
    return "## 1. Check the gates\n\n" + ("\n".join(lines) or "This platform sets no gate for this route.")


def _settings_section(case: KitCase, settings: Mapping[str, Sequence[Setting]]) -> str:
    rows = [
        f"| {s.place} | `{s.path}` | `{s.name}` | `{setting_text(s)}` |" for held in settings.values() for s in held
    ]
    lines = ["## 3. Put the settings in\n"]
    if rows:
        lines += ["| place | section | name | value |", "|---|---|---|---|", *rows, ""]
    lines += [f"- [ ] {o.title}: covers {', '.join(sorted(o.covers))}." for o in case.chosen.overrides]
    if any(place != ANSWERS for place in settings):
        lines += ["- [ ] Run `sh apply`, then `sh verify`: every setting must be `right`."]
    if ANSWERS in settings:
        lines += ["- [ ] `answers.ini` is handed to set-up by `set-up`; leave it in the kit's folder."]
    return "\n".join(lines)


def _restart_section(case: KitCase) -> str:
    fleeting = [o.title for o in case.chosen.overrides if not o.lasting]
    word = {
        "device": "- [ ] Restart the device now, before set-up.",
        "set-up": "- [ ] Leave set-up and start it again; do not restart the device.",
        "none": "- No restart is needed before set-up.",
    }[_restart(case)]
    lost = [f"- A restart loses {', '.join(fleeting)}. Run `sh apply` again after one."] if fleeting else []
    return "\n".join(["## 4. Restart\n", word, *lost])


def _accept_section(case: KitCase) -> str:
    lines = ["## 7. What to accept and record\n", "- [ ] Accept the vendor's notice about unmet requirements."]
    for e in case.exceptions:
        keep = f" Keep to: {' '.join(e.conditions.split())}" if e.conditions else ""  # one line, whatever was typed
        lines.append(
            f"- [ ] {e.id} allows {', '.join(e.requirements)} through {e.expiry}; "
            f"risk acknowledged by {e.acknowledged_by}.{keep}"
        )
    lines.append("- [ ] Record the attempt, whatever its outcome.")
    return "\n".join(lines)
