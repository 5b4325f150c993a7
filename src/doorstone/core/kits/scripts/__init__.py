"""Renders a kit's scripts from the sh and awk files beside it. Whatever varies is put in here, always quoted.

In: an area (what is changed: the system, the media, the loader's place, the system after the upgrade) and its pieces.
Out: the bytes of the scripts that put them in, take them out and look at them.
"""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from datetime import date
from functools import cache
from importlib import resources

from msgspec import Struct

from doorstone.core.kits.settings_store import KitFileChange


class KitTarget(Struct, frozen=True):
    """What a triple of scripts changes. `prefix` begins their names; `root` is where they work if nothing is given."""

    prefix: str
    what: str
    where: str
    root: str

    @property
    def scripts(self) -> tuple[str, str, str]:
        return f"{self.prefix}apply", f"{self.prefix}undo", f"{self.prefix}verify"


class Holds(Struct, frozen=True):
    """What apply checks before it does anything: the days of the kit, and the machines that it is for.

    `machines` are (device, name, serial number); any of the three that a machine says of itself will do.
    """

    expires: date | None = None
    machines: tuple[tuple[str, str, str], ...] = ()
    made_on: date | None = None

    @property
    def words(self) -> str:
        """Every word by which a machine may be known, in small letters, spaces left out."""
        words = [word.lower().replace(" ", "") for machine in self.machines for word in machine if word]
        return " ".join(dict.fromkeys(words))


NOTHING_TO_HOLD = Holds()
SYSTEM = KitTarget("", "the settings", "the root of the system, / if not given", "/")
MEDIA = KitTarget(
    "media-", "the changes of the media", "the folder of a working copy of the media, or of the stick", ""
)
LOADER = KitTarget("loader-", "the loader", "the root of the system, / if not given", "/")
AFTER = KitTarget("after-", "the settings for afterwards", "the root of the system, / if not given", "/")
AREAS = (SYSTEM, MEDIA, LOADER, AFTER)


@cache
def _part(name: str) -> str:
    """A part of the scripts as it stands in this folder, with the parts that it names filled in."""
    text = (resources.files(__package__) / name).read_text("utf-8")
    for word, part in (("@COMMON@", "root.sh"), ("@JSON_PATCH@", "json_patch.awk"), ("@NEAR@", "near_miss.awk")):
        if word in text:
            text = text.replace(word, _part(part))
    return text


def scripts(
    area: KitTarget, kit: str, pieces: Sequence[KitFileChange], next_step: str, holds: Holds = NOTHING_TO_HOLD
) -> dict[str, bytes]:
    """The three scripts of an area by name. `next_step` is said once all is in place."""
    patches = any(piece.change == "patch" for piece in pieces)
    numbered = list(enumerate(pieces, 1))
    expects = [_call("expect", n, p.target, p.before) for n, p in numbered if p.before]
    expects += [_call("fits", n, p.target, p.source) for n, p in numbered if p.change == "patch"]
    puts = [_call(p.change, n, p.target, *([p.source] if p.source else [])) for n, p in numbered]
    backs = [_call("back_json" if p.change == "patch" else "back", n, p.target) for n, p in reversed(numbered)]
    looks = [_call(f"look_{p.look}", p.place, p.target, *([p.beside] if p.beside else [])) for p in pieces]
    kinds = {piece.look for piece in pieces}
    checks = [
        (_part("look_ini.sh"), "ini" in kinds or not kinds),
        (_part("json.sh") + _part("look_json.sh"), "json" in kinds),
        (_part("look_file.sh"), bool(kinds & {"same", "gone"})),
        (_part("look_lines.sh"), "lines" in kinds),
    ]
    apply, undo, verify = area.scripts

    def fixed(text: str, name: str) -> str:
        return _fill(text, area, name, kit, patches, holds)

    guards = ["no_links", *(_call("plain", p.target) for p in pieces)]
    guards.append('plain ".doorstone/$own/0"')
    ahead = ["\n", *(f"{line}\n" for line in (*guards, *expects))]
    steps = [*ahead, "begin\n" if pieces else 'mkdir -p "$keep"\n', *(f"{line}\n" for line in puts)]
    patch = _part("json.sh") + _part("patch.sh") if patches else ""
    back = _part("json.sh") + _part("back_json.sh") if patches else ""
    ready = [_call("ready_json", n, p.target) for n, p in numbered if p.change == "patch"]
    takes_out = "\n".join(["", *guards, *ready, *backs, ""])
    texts = {
        apply: [fixed(_part("apply.sh") + patch, apply), *steps, f"echo {shlex.quote(next_step)}\n"],
        undo: [fixed(_part("undo.sh") + back, undo), takes_out, _part("undo_end.sh")],
        verify: [
            fixed(_part("verify.sh") + "".join(text for text, used in checks if used), verify),
            _part("verify_end.sh").replace("@LOOKS@", "\n".join(looks) or ":"),
        ],
    }
    return {name: "".join(parts).encode() for name, parts in texts.items()}


def set_up_script(kit: str, program: str, arguments: Sequence[str], answers: bool) -> bytes:
    """The script that starts set-up. `program` is a plain path, as the sheet's schema has it."""
    words = " ".join(shlex.quote(word) for word in arguments) + (' --answers "$here/answers.ini"' if answers else "")
    text = _part("set_up.sh").replace("@ID@", kit).replace("@PROGRAM@", program)
    return text.replace("@ARGUMENTS@", words).encode()


def _call(function: str, *words: object) -> str:
    return " ".join([function, *(shlex.quote(str(word)) for word in words)])


def _fill(text: str, area: KitTarget, self: str, kit: str, patches: bool, holds: Holds) -> str:
    of_a_machine = area is not MEDIA
    for word, value in (
        ("@HOLDS@", _part("holds.sh")),
        ("@EXPIRES@", holds.expires.strftime("%Y%m%d") if holds.expires else "''"),
        ("@MADE_ON@", holds.made_on.strftime("%Y%m%d") if holds.made_on else "''"),
        ("@MACHINES@", shlex.quote(holds.words if of_a_machine else "")),
        ("@DEVICES@", ", ".join(device for device, _, _ in holds.machines)),
        ("@OPTIONS@", "--as-found and --force are" if patches else "--force is"),
        ("@LAX_WORDS@", " [--as-found]" if patches else ""),
        ("@SELF@", self),
        ("@WHAT@", area.what),
        ("@WHERE@", area.where),
        ("@ROOT@", area.root),
        ("@SUFFIX@", f"-{area.prefix.rstrip('-')}" if area.prefix else ""),
        ("@ID@", kit),
        ("@QUOTED_ID@", shlex.quote(kit)),
    ):
        text = text.replace(word, value)
    return text
