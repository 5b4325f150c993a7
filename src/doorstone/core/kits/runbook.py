"""The runbook of a kit: the technician's steps in the order in which they are taken, Markdown with boxes to tick."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Mapping, Sequence

from doorstone.core.kits.case import KitCase
from doorstone.core.kits.gates import GateResult
from doorstone.core.kits.scripts import AFTER, LOADER, MEDIA, KitTarget
from doorstone.core.kits.settings_store import KitFileChange, setting_text
from doorstone.core.platforms.platform import MediaFile, Route, Setting


def set_up_arguments(case: KitCase) -> list[str]:
    """The arguments for set-up: release, route, then those of the overrides in order, each once."""
    arguments = ["--release", case.release, "--route", case.route.value, "--carry-over", case.carry_over]
    for override in case.chosen.overrides:
        arguments += [word for word in override.arguments if word not in arguments]
    return arguments


def restart_of(case: KitCase) -> str:
    """What is restarted before set-up: device, set-up or none."""
    words = {o.restart for o in case.chosen.overrides}
    return "device" if "device" in words else "set-up" if "set-up" in words else "none"


def runbook(
    case: KitCase,
    settings: Mapping[str, Sequence[Setting]],
    answers: Sequence[Setting],
    areas: Mapping[KitTarget, Sequence[KitFileChange]],
) -> str:
    """The whole runbook: `settings` by place, `answers` for set-up, and what each area changes."""
    platform = case.platform
    wiped = case.route is Route.CLEAN
    steps = [
        (
            "Before anything changes",
            [
                "- [ ] Close every program and sign out everybody else.",
                f"- [ ] `apply` copies what it changes to `/.doorstone/{case.id}` first. Nothing to do by hand.",
                *(["- [ ] **This wipes the system disk.** Say so to whoever uses the device, and have them confirm it."]
                  if wiped else []),
            ],
        ),
        ("Put the settings in", _settings_lines(case, settings, answers)),
        ("Restart", _restart_lines(case)),
        ("Prepare the media", _media_lines(case, areas)),
        ("Start set-up", _start_lines(case)),
        ("What you will see", _seen_lines(case)),
        ("What to accept and record", _accept_lines(case)),
        ("After", _after_lines(case, areas)),
        ("To undo the settings", _undo_lines(case, areas)),
    ]  # fmt: skip
    head = (
        f"# Runbook: {platform.name} {case.release} on {', '.join(case.devices)}\n\n"
        f"Kit {case.id}, route {case.route}, carries over: {case.carry_over}. "
        f"Sheet revision {case.sheet_revision}. Made on {case.made_on}."
        + (f" Not to be used after {case.expires}: then an exception lapses." if case.expires else "")
    )
    parts = [head, _section(1, "Check the gates", _gate_lines(case))]
    parts += [_section(at, title, lines) for at, (title, lines) in enumerate(steps, 2)]
    return "\n\n".join(parts) + "\n"


def _section(number: int, title: str, lines: Sequence[str]) -> str:
    return f"## {number}. {title}\n\n" + "\n".join(lines)


def _flat(text: str) -> str:
    """What a person typed, on one line: it adds no step of its own."""
    return " ".join(text.split())


def _boxes(lines: Iterable[str]) -> list[str]:
    return [f"- [ ] {line}" for line in lines]


def _gate_lines(case: KitCase) -> list[str]:
    """A line per gate; what is the same on every device is said once."""
    lines = []
    for known in case.platform.gates:
        held = [g for g in case.gates if g.gate.id == known.id]
        if not held:
            continue
        waived = f" Waived: {case.waived[known.id]}" if known.id in case.waived else ""
        missed = next((g for g in held if g.result != "holds"), None)
        todo = f". {missed.gate.todo}{waived}" if missed else ""
        lines.append(f"- [ ] {known.title}: {_found(held)}{todo}")
    lines += [
        f"- [ ] {fix.device}: {fix.facts}, recorded as fixed on {fix.done_on}. No reading has confirmed it: check it."
        for fix in case.unproved
    ]
    return lines or ["This platform sets no gate for this route."]


def _found(held: Sequence[GateResult]) -> str:
    if len({(g.result, g.measured) for g in held}) == 1:
        where = f" on all {len(held)}" if len(held) > 1 else ""
        return f"{held[0].result}{where} ({held[0].measured})"
    return "; ".join(f"{g.device} {g.result} ({g.measured})" for g in held)


def _settings_lines(case: KitCase, settings: Mapping[str, Sequence[Setting]], answers: Sequence[Setting]) -> list[str]:
    held = [s for place in settings.values() for s in place] + list(answers)
    lines = []
    if held:
        rows = [f"| {s.place} | `{s.path}` | `{s.name}` | `{setting_text(s)}` |" for s in held]
        lines += ["| place | section | name | value |", "|---|---|---|---|", *rows, ""]
    lines += _boxes(f"{o.title}: covers {', '.join(sorted(o.covers))}." for o in case.chosen.overrides)
    if settings:
        lines += ["- [ ] Run `sh apply`, then `sh verify`: every setting must be `right`."]
    if answers:
        lines += ["- [ ] `answers.ini` is handed to set-up by `set-up`; leave it in the kit's folder."]
    return lines or ["No setting is needed."]


def _restart_lines(case: KitCase) -> list[str]:
    fleeting = [o.title for o in case.chosen.overrides if not o.lasting]
    word = {
        "device": "- [ ] Restart the device now, before set-up.",
        "set-up": "- [ ] Leave set-up and start it again; do not restart the device.",
        "none": "- No restart is needed before set-up.",
    }[restart_of(case)]
    lost = [f"- A restart loses {', '.join(fleeting)}. Run `sh apply` again after one."] if fleeting else []
    return [word, *lost]


def _media_lines(case: KitCase, areas: Mapping[KitTarget, Sequence[KitFileChange]]) -> list[str]:
    media = case.media
    if media is None:
        lines = [f"- [ ] Take media that hold release {case.release}; none is on record for this kit."]
    else:
        editions = ", ".join(media.editions)
        what = f"{case.platform.name} {media.release} ({editions}), {media.language}, {media.arch}"
        lines = [f"- [ ] Take {media.id}: {what}."]
        lines += [
            f"- [ ] Its SHA-256 is `{media.sha256}`." + (f" It is on {_flat(media.origin)}." if media.origin else "")
        ]
        if media.needs_gb:
            lines += [f"- [ ] The stick has a {media.table} partition table and {media.needs_gb} GB or more."]
    if MEDIA not in areas:
        return lines
    changed = [f for o in case.chosen.overrides for f in o.files]
    loaders = [o.loader for o in case.chosen.overrides if o.loader]
    lines += ["- [ ] Copy it: the changes below are made on a working copy, never on the original."]
    lines += _boxes(_change_words(file) for file in changed)
    lines += _boxes(f"The loader goes to `{loader.stick}` on the stick." for loader in loaders)
    lines += ["- [ ] Run `sh media-apply FOLDER` on the copy, then `sh media-verify FOLDER`: each must be `right`."]
    return lines


def _change_words(file: MediaFile) -> str:
    before = f", which must be `{file.before}` before" if file.before else ""
    after = f"; afterwards it is `{file.after}`" if file.after else ""
    return f"`{file.path}` is {file.change}{before}{after}."


def _start_lines(case: KitCase) -> list[str]:
    program = case.platform.store.set_up
    first = "Start the device from the media" if case.route is Route.CLEAN else "Put the media in"
    return [
        f"- [ ] {first}.",
        "- [ ] Run `sh set-up`. It starts set-up with:",
        "",
        f"      {program} {shlex.join(set_up_arguments(case))}",
    ]


def _seen_lines(case: KitCase) -> list[str]:
    expected = _boxes(line for o in case.chosen.overrides for line in o.expect)
    cautions = _boxes(line for o in case.chosen.overrides for line in o.cautions)
    lines = expected or ["Nothing unusual is expected."]
    return [*lines, "", "### Take care", "", *cautions] if cautions else lines


def _accept_lines(case: KitCase) -> list[str]:
    notice = case.platform.release(case.release).notice
    lines = [f"- [ ] Accept the vendor's notice: “{notice}”" if notice else "- [ ] Accept the vendor's notice, if any."]
    for e in case.exceptions:
        keep = f" Keep to: {_flat(e.conditions)}" if e.conditions else ""
        lines.append(
            f"- [ ] {e.id} allows {', '.join(e.requirements)} through {e.expiry}; "
            f"risk acknowledged by {e.acknowledged_by}.{keep}"
        )
    return [*lines, "- [ ] Record the attempt, whatever its outcome."]


def _after_lines(case: KitCase, areas: Mapping[KitTarget, Sequence[KitFileChange]]) -> list[str]:
    """What follows the upgrade: the steps that Door Stone will track, and the kit's scripts that carry them out."""
    lines = []
    if LOADER in areas:
        lines += [
            "**Blocking.** Run `sh loader-apply`: without the loader on the internal disk the device starts only with "
            "the stick in. Then start it once without the stick."
        ]
    lines += [f"**Blocking.** Put in the patch for this model: {patch}." for patch in case.patches]
    for step in case.steps:
        where = f" ({', '.join(step.devices)})" if step.devices else ""
        lines.append(f"{'**Blocking.** ' if step.blocking else ''}{step.title}{where}. {step.todo}")
    lines += [f"{wanted.title}: {wanted.why}" for wanted in case.sets if wanted.why]
    if AFTER in areas:
        lines += ["Run `sh after-apply`, then `sh after-verify`: every setting must be `right`."]
    return _boxes(lines) or ["Nothing further."]


def _undo_lines(case: KitCase, areas: Mapping[KitTarget, Sequence[KitFileChange]]) -> list[str]:
    days = case.platform.release(case.release).rollback_days
    also = [area.scripts[1] for area in (AFTER, LOADER, MEDIA) if area in areas]
    first = [f"- First `sh {name}`{' FOLDER' if name == MEDIA.scripts[1] else ''}, if it was applied." for name in also]
    rolled = f"- The upgrade itself can be rolled back for {days} days after it completes."
    return [
        *first,
        "- Run `sh undo`. It puts back the copies that `apply` took and removes what was not there before.",
        "- A clean route cannot be rolled back: what was on the disk comes back from the backup."
        if case.route is Route.CLEAN
        else rolled,
    ]
