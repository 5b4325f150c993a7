"""The fixed part of a kit's scripts, POSIX sh and awk. Whatever varies is put in here, always quoted.

In: an area (what is changed: the system, the media, the loader's place, the system after the upgrade) and its pieces.
Out: the bytes of the scripts that put them in, take them out and look at them.
"""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from dataclasses import dataclass

from doorstone.core.kit_json import JSON
from doorstone.core.kit_near import NEAR
from doorstone.core.stores import Piece


@dataclass(frozen=True, slots=True)
class Area:
    """What a triple of scripts changes. `prefix` begins their names; `root` is where they work if nothing is given."""

    prefix: str
    what: str
    where: str
    root: str

    @property
    def scripts(self) -> tuple[str, str, str]:
        return f"{self.prefix}apply", f"{self.prefix}undo", f"{self.prefix}verify"


SYSTEM = Area("", "the settings", "the root of the system, / if not given", "/")
MEDIA = Area("media-", "the changes of the media", "the folder of a working copy of the media, or of the stick", "")
LOADER = Area("loader-", "the loader", "the root of the system, / if not given", "/")
AFTER = Area("after-", "the settings for afterwards", "the root of the system, / if not given", "/")
AREAS = (SYSTEM, MEDIA, LOADER, AFTER)

_ROOT = r"""set -eu
umask 022
here=$(cd "$(dirname "$0")" && pwd)
root=${1:-@ROOT@}
[ -n "$root" ] && [ -d "$root" ] || { printf '@SELF@: "%s" is not a folder; name @WHERE@\n' "$root" >&2; exit 2; }
root=${root%/}
kit=@QUOTED_ID@
keep=$root/.doorstone/$kit@SUFFIX@
digest() { sha256sum < "$1" | cut -d ' ' -f 1; }
"""

_APPLY = (
    r"""#!/bin/sh
# Puts @WHAT@ of kit @ID@ in place, after taking a copy of what was there. Doing it twice is harmless.
# Usage: sh @SELF@ [ROOT@LAX_WORDS@]     ROOT is @WHERE@
"""
    + _ROOT
    + r"""
(cd "$here" && sha256sum -c --quiet SHA256SUMS) || {
    echo '@SELF@: the kit was changed or is incomplete; download it again. Nothing was done.' >&2; exit 3; }

refuse() { printf '@SELF@: %s. Nothing was done.\n' "$1" >&2; exit 4; }

expect() {  # number, target, SHA-256 of what must be there before it is changed
    [ ! -e "$keep/$1.saved" ] || return 0
    [ -f "$root/$2" ] || refuse "$root/$2 is not there"
    [ "$(digest "$root/$2")" = "$3" ] || refuse "$root/$2 is not the file that this kit was made for"
}

folder() {  # make a folder below the root, writing down each one that was not there
    [ ! -d "$root/$1" ] || return 0
    case $1 in */*) folder "${1%/*}" ;; esac
    printf '%s\n' "$1" >> "$keep/folders"
    mkdir "$root/$1"
}

save() {  # number, target: a copy of what is there, once
    [ ! -e "$keep/$1.saved" ] || return 0
    rm -f "$keep/$1.before"
    if [ -e "$root/$2" ] || [ -L "$root/$2" ]; then cp -pP "$root/$2" "$keep/$1.before"; fi
    : > "$keep/$1.saved"
}

put() {  # number, target, file in the kit
    save "$1" "$2"
    case $2 in */*) folder "${2%/*}" ;; esac
    cp "$here/$3" "$root/$2.doorstone-new"
    mv -f "$root/$2.doorstone-new" "$root/$2"
    printf 'in place: %s/%s\n' "$root" "$2"
}

drop() {  # number, target
    save "$1" "$2"
    rm -f "$root/$2"
    printf 'removed: %s/%s\n' "$root" "$2"
}
"""
)

_PATCH = r"""
as_found=${2:-}
case $as_found in ''|--as-found) ;; *) printf '@SELF@: %s is not known; --as-found is\n' "$as_found" >&2; exit 2 ;; esac
fits() {  # number, target, patch in the kit: whether it can be applied, before anything is done
    [ ! -e "$keep/$1.saved" ] || return 0
    json try "$root/$2" "$here/$3" '' '' "$as_found" || {
        printf '%s\n' '@SELF@: this is not as the maker ships it. Nothing was done.' \
            'To take it as it is found, and bring that back with undo: sh @SELF@ ROOT --as-found' >&2; exit 4; }
}

patch() {  # number, target, patch in the kit
    save "$1" "$2"
    from=$keep/$1.before lax=$as_found back=$keep/$1.back
    if [ -e "$keep/$1.after" ]; then from=$root/$2 lax=again back=; fi
    case $2 in */*) folder "${2%/*}" ;; esac
    if [ -e "$root/$2" ]; then cp -p "$root/$2" "$root/$2.doorstone-new"; fi
    json apply "$from" "$here/$3" "$root/$2.doorstone-new" "$back" "$lax"
    mv -f "$root/$2.doorstone-new" "$root/$2"
    digest "$root/$2" > "$keep/$1.after"
    printf 'in place: %s/%s\n' "$root" "$2"
}
"""

_UNDO = (
    r"""#!/bin/sh
# Puts back what was there before @WHAT@ of kit @ID@ were put in, from the copy taken then.
# Usage: sh @SELF@ [ROOT]     ROOT is @WHERE@
"""
    + _ROOT
    + r"""
[ -d "$keep" ] || { printf '@SELF@: kit %s is not applied here; nothing to do.\n' "$kit"; exit 0; }

back() {  # number, target
    [ -e "$keep/$1.saved" ] || return 0
    rm -f "$root/$2.doorstone-new"
    if [ -e "$keep/$1.before" ] || [ -L "$keep/$1.before" ]; then
        cp -pP "$keep/$1.before" "$root/$2.doorstone-old"
        mv -f "$root/$2.doorstone-old" "$root/$2"
    else
        rm -f "$root/$2"
    fi
    printf 'as before: %s/%s\n' "$root" "$2"
}
"""
)

_BACK_JSON = r"""
back_json() {  # number, target: the copy if nothing else has changed since, else only what the kit put in
    if [ -e "$keep/$1.after" ] && [ -e "$root/$2" ] && [ "$(digest "$root/$2")" != "$(cat "$keep/$1.after")" ]; then
        cp -p "$root/$2" "$root/$2.doorstone-new"
        json apply "$root/$2" "$keep/$1.back" "$root/$2.doorstone-new" || {
            rm -f "$root/$2.doorstone-new"
            printf '%s\n' '@SELF@: it was changed since in the same place. Nothing was undone there.' \
                "What was there before is in $keep/$1.before" >&2; exit 4; }
        mv -f "$root/$2.doorstone-new" "$root/$2"
        printf 'taken out, what others changed since is kept: %s/%s\n' "$root" "$2"
        rm -f "$keep/$1.saved"
        return 0
    fi
    back "$1" "$2"
}
"""

_UNDO_END = r"""if [ -e "$keep/folders" ]; then
    awk '{ line[NR] = $0 } END { for (i = NR; i > 0; i--) print line[i] }' "$keep/folders" |
    while IFS= read -r name; do rmdir "$root/$name" 2>/dev/null || :; done
fi
rm -rf "$keep"
rmdir "$root/.doorstone" 2>/dev/null || :
"""

_VERIFY = (
    r"""#!/bin/sh
# Says of @WHAT@ of kit @ID@, one by one, whether each is right, missing, different or a near-miss, as JSON.
# Usage: sh @SELF@ [ROOT]     ROOT is @WHERE@. Exit: 0 all right, 1 something is not, 2 wrong usage
"""
    + _ROOT
)

_LOOK_INI = r"""
look_ini() {  # place, target, file in the kit: every INI file of the target's folder, read in order
    set -- "$1" "$here/$3" "$root/${2%/*}"/*.ini
    place=$1 want=$2
    shift 2
    [ -e "$1" ] || set --
    awk -v place="$place" '
        function trim(s) { sub(/^[ \t]+/, "", s); sub(/[ \t\r]+$/, "", s); return s }
        function text(s,   i, c, out) {
            out = ""
            for (i = 1; i <= length(s); i++) {
                c = substr(s, i, 1)
                if (c == "\\" || c == "\"") out = out "\\" c
                else if (c < " ") out = out "?"
                else out = out c
            }
            return "\"" out "\""
        }
@NEAR@        FNR == 1 { section = ""; file++ }
        /^[ \t]*[#;]/ || /^[ \t]*$/ { next }
        /^[ \t]*\[.*\][ \t\r]*$/ { section = trim($0); section = substr(section, 2, length(section) - 2); next }
        {
            cut = index($0, "="); if (!cut) next
            name = trim(substr($0, 1, cut - 1)); value = trim(substr($0, cut + 1))
            if (file == 1) { order[++wanted] = section SUBSEP name; expect[section, name] = value }
            else { have[section, name] = value }
        }
        END {
            for (n = 1; n <= wanted; n++) {
                split(order[n], key, SUBSEP); state = "missing"; found = ""; near = ""
                if ((key[1], key[2]) in have) {
                    found = have[key[1], key[2]]
                    state = found == expect[key[1], key[2]] ? "right" : "different"
                } else for (other in have) {
                    split(other, at, SUBSEP)
                    if (at[1] != key[1] || ((at[1], at[2]) in expect) || (near != "" && at[2] > near)) continue
                    if (distance(tolower(at[2]), tolower(key[2])) > 2) continue
                    state = "near-miss"; near = at[2]; found = have[other]
                }
                printf "{\"place\": %s, \"section\": %s, \"name\": %s, \"state\": %s, \"expected\": %s", \
                    text(place), text(key[1]), text(key[2]), text(state), text(expect[key[1], key[2]])
                if (state == "different" || state == "near-miss") printf ", \"found\": %s", text(found)
                if (near != "") printf ", \"near\": %s, \"slip\": %s", text(near), text(slip(near, key[2]))
                print "}"
            }
        }' "$want" "$@"
}
"""

_LOOK_JSON = r"""
look_json() { json look "$root/$2" "$here/$3" '' '' '' "$1"; }
"""

_LOOK_FILE = r"""
row() { printf '{"place": "%s", "section": "", "name": "%s", "state": "%s", "expected": "%s"%s}\n' "$@"; }

look_same() {  # place, target, file in the kit
    want=$(digest "$here/$3")
    if [ ! -f "$root/$2" ]; then row "$1" "$2" missing "$want" ''
    elif [ "$(digest "$root/$2")" = "$want" ]; then row "$1" "$2" right "$want" ''
    else row "$1" "$2" different "$want" ", \"found\": \"$(digest "$root/$2")\""; fi
}

look_gone() {  # place, target
    if [ -e "$root/$2" ]; then row "$1" "$2" different removed ', "found": "still there"'
    else row "$1" "$2" right removed ''; fi
}
"""

_LOOK_LINES = r"""
look_lines() {  # place, target, file in the kit: every line of it, wherever it stands in the target
    have=$root/$2
    [ -f "$have" ] || have=/dev/null
    PLACE=$1 TARGET=$2 LC_ALL=C awk '
        function text(s,   i, c, out) {
            out = ""
            for (i = 1; i <= length(s); i++) {
                c = substr(s, i, 1)
                out = out (c == "\\" || c == "\"" ? "\\" c : c < " " ? "?" : c)
            }
            return "\"" out "\""
        }
@NEAR@        { sub(/[ \t\r]+$/, "") }
        FILENAME == ARGV[1] { if ($0 != "") want[++wanted] = $0; next }
        { have[$0] = 1; line[++lines] = $0 }
        END {
            for (n = 1; n <= wanted; n++) {
                state = want[n] in have ? "right" : "missing"; near = ""
                if (state == "missing") for (i = 1; i <= lines && near == ""; i++)
                    if (length(line[i]) > 4 && distance(line[i], want[n]) <= 2) { near = line[i]; state = "near-miss" }
                printf "{\"place\": %s, \"section\": \"\", \"name\": %s, \"state\": \"%s\", \"expected\": %s", \
                    text(ENVIRON["PLACE"]), text(ENVIRON["TARGET"] ", line " n), state, text(want[n])
                if (near != "") printf ", \"found\": %s, \"near\": %s, \"slip\": %s", \
                    text(near), text(near), text(slip(near, want[n]))
                print "}"
            }
        }' "$here/$3" "$have"
}
"""

_VERIFY_END = r"""
rows=$(
@LOOKS@
:
)
case $rows in *'"state": "missing"'*|*'"state": "different"'*|*'"state": "near-miss"'*) ok=false ;; *) ok=true ;; esac
printf '{"kit": "%s", "ok": %s, "settings": [' "$kit" "$ok"
printf '%s' "$rows" | awk 'NR > 1 { printf "," } { printf "\n  %s", $0 } END { if (NR) print "" }'
printf ']}\n'
[ "$ok" = true ]
"""

SET_UP = r"""#!/bin/sh
# Starts set-up for kit @ID@ with the arguments that the exceptions allow, and no others.
# Usage: sh set-up [more arguments]     Set SET_UP to set-up on the media if it is not @PROGRAM@
set -eu
here=$(cd "$(dirname "$0")" && pwd)
exec "${SET_UP:-@PROGRAM@}" @ARGUMENTS@ "$@"
"""


def scripts(area: Area, kit: str, pieces: Sequence[Piece], next_step: str) -> dict[str, bytes]:
    """The three scripts of an area by name. `next_step` is said once all is in place."""
    patches = any(piece.change == "patch" for piece in pieces)
    numbered = list(enumerate(pieces, 1))
    expects = [_call("expect", n, p.target, p.before) for n, p in numbered if p.before]
    expects += [_call("fits", n, p.target, p.source) for n, p in numbered if p.change == "patch"]
    puts = [_call(p.change, n, p.target, *([p.source] if p.source else [])) for n, p in numbered]
    backs = [_call("back_json" if p.change == "patch" else "back", n, p.target) for n, p in reversed(numbered)]
    looks = [_call(f"look_{p.look}", p.place, p.target, *([p.beside] if p.beside else [])) for p in pieces]
    kinds = {piece.look for piece in pieces}
    looking = [(_LOOK_INI.replace("@NEAR@", NEAR), "ini" in kinds or not kinds), (JSON + _LOOK_JSON, "json" in kinds)]
    looking += [(_LOOK_FILE, bool(kinds & {"same", "gone"})), (_LOOK_LINES.replace("@NEAR@", NEAR), "lines" in kinds)]
    apply, undo, verify = area.scripts

    def fixed(text: str, name: str) -> str:
        return _fill(text, area, name, kit, patches)

    steps = ["\n", *(f"{line}\n" for line in expects), 'mkdir -p "$keep"\n', *(f"{line}\n" for line in puts)]
    texts = {
        apply: [fixed(_APPLY + (JSON + _PATCH if patches else ""), apply), *steps, f"echo {shlex.quote(next_step)}\n"],
        undo: [fixed(_UNDO + (JSON + _BACK_JSON if patches else ""), undo), "\n", "\n".join(backs), "\n", _UNDO_END],
        verify: [
            fixed(_VERIFY + "".join(text for text, used in looking if used), verify),
            _VERIFY_END.replace("@LOOKS@", "\n".join(looks) or ":"),
        ],
    }
    return {name: "".join(parts).encode() for name, parts in texts.items()}


def set_up_script(kit: str, program: str, arguments: Sequence[str], answers: bool) -> bytes:
    """The script that starts set-up. `program` is a plain path, as the sheet's schema has it."""
    words = " ".join(shlex.quote(word) for word in arguments) + (' --answers "$here/answers.ini"' if answers else "")
    text = SET_UP.replace("@ID@", kit).replace("@PROGRAM@", program)
    return text.replace("@ARGUMENTS@", words).encode()


def _call(function: str, *words: object) -> str:
    return " ".join([function, *(shlex.quote(str(word)) for word in words)])


def _fill(text: str, area: Area, self: str, kit: str, patches: bool) -> str:
    for word, value in (
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
