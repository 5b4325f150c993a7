"""The fixed part of a kit's scripts, POSIX sh and awk. Whatever varies is put in here, always quoted.

In: an area (what is changed: the system, the media, the loader's place, the system after the upgrade) and its pieces.
Out: the bytes of the scripts that put them in, take them out and look at them.
"""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from doorstone.core.kits.json_patch import JSON
from doorstone.core.kits.near_miss import NEAR
from doorstone.core.kits.settings_store import KitFileChange


@dataclass(frozen=True, slots=True)
class KitTarget:
    """What a triple of scripts changes. `prefix` begins their names; `root` is where they work if nothing is given."""

    prefix: str
    what: str
    where: str
    root: str

    @property
    def scripts(self) -> tuple[str, str, str]:
        return f"{self.prefix}apply", f"{self.prefix}undo", f"{self.prefix}verify"


@dataclass(frozen=True, slots=True)
class Holds:
    """What apply checks before it does anything: the last day, and the machines that the kit is for.

    `machines` are (device, name, serial number); any of the three that a machine says of itself will do.
    """

    expires: date | None = None
    machines: tuple[tuple[str, str, str], ...] = ()

    @property
    def words(self) -> str:
        """Every word by which a machine may be known, in small letters, spaces left out."""
        said = [word.lower().replace(" ", "") for machine in self.machines for word in machine if word]
        return " ".join(dict.fromkeys(said))


NOTHING_TO_HOLD = Holds()
SYSTEM = KitTarget("", "the settings", "the root of the system, / if not given", "/")
MEDIA = KitTarget(
    "media-", "the changes of the media", "the folder of a working copy of the media, or of the stick", ""
)
LOADER = KitTarget("loader-", "the loader", "the root of the system, / if not given", "/")
AFTER = KitTarget("after-", "the settings for afterwards", "the root of the system, / if not given", "/")
AREAS = (SYSTEM, MEDIA, LOADER, AFTER)

_ROOT = r"""set -eu
umask 022
here=$(cd "$(dirname "$0")" && pwd)
root=${1-@ROOT@}
[ -n "$root" ] && [ -d "$root" ] || { printf '@SELF@: "%s" is not a folder; name @WHERE@\n' "$root" >&2; exit 2; }
root=${root%/}
kit=@QUOTED_ID@
own=$kit@SUFFIX@
keep=$root/.doorstone/$own
digest() { sha256sum < "$1" | cut -d ' ' -f 1; }
refuse() { printf '@SELF@: %s. Nothing was done.\n' "$1" >&2; exit 4; }

plain() {  # target: nothing on the way to it is a link or leads out of the root, and it is a plain file or not there
    at=$root rest=$1
    case /$rest/ in */../*|*/./*|*//*) refuse "$rest is no path below the root" ;; esac
    while :; do
        at=$at/${rest%%/*}
        [ ! -L "$at" ] || refuse "$at is a link, and links are not followed"
        case $rest in */*) rest=${rest#*/} ;; *) break ;; esac
        [ ! -e "$at" ] || [ -d "$at" ] || refuse "$at is no folder"
    done
    [ ! -e "$at" ] || [ -f "$at" ] || refuse "$at is no plain file"
}
"""

_HOLDS = r"""
forced=
as_found=
shift_one=1
for word in "$@"; do
    if [ "$shift_one" = 1 ]; then shift_one=0; continue; fi
    case $word in
        --as-found) as_found=$word ;;
        --force) forced=$word ;;
        *) printf '@SELF@: %s is not known; @OPTIONS@\n' "$word" >&2; exit 2 ;;
    esac
done

doubt() {  # what does not hold
    [ -z "$forced" ] || { printf '@SELF@: %s; going on, as --force has it\n' "$1" >&2; return 0; }
    printf '@SELF@: %s. Nothing was done. To go on all the same: sh @SELF@ ROOT --force\n' "$1" >&2
    exit 5
}

last=@EXPIRES@
[ -z "$last" ] || [ "$(date +%Y%m%d)" -le "$last" ] ||
    doubt "this kit was to be used through $last: an exception it rests on has lapsed"

machine() {  # the names of this machine, whole and up to the first dot, and its serial number, in small letters
    {
        if [ -f "$root/etc/hostname" ]; then head -n 1 "$root/etc/hostname" | sed -e p -e 's/[.].*//'; fi
        if [ -z "$root" ]; then uname -n | sed -e p -e 's/[.].*//'; fi
        if [ -f "$root/sys/class/dmi/id/product_serial" ]; then
            head -n 1 "$root/sys/class/dmi/id/product_serial" 2>/dev/null || :
        fi
    } | tr -d ' \t\r' | tr '[:upper:]' '[:lower:]' | sort -u
}
known=@MACHINES@
if [ -n "$known" ]; then
    said=$(machine) fits=
    set -f
    for word in $said; do case " $known " in *" $word "*) fits=$word ;; esac; done
    set +f
    if [ -n "$said" ] && [ -z "$fits" ]; then
        doubt "this is $(printf '%s' "$said" | tr '\n' ' '), and the kit is for @DEVICES@"
    fi
fi
"""

_APPLY = (
    r"""#!/bin/sh
# Puts @WHAT@ of kit @ID@ in place, after taking a copy of what was there. Doing it twice is harmless.
# Usage: sh @SELF@ [ROOT@LAX_WORDS@ [--force]]     ROOT is @WHERE@
"""
    + _ROOT
    + r"""@HOLDS@
unsound=$(cd "$here" && { [ -f SHA256SUMS ] || echo 'SHA256SUMS: missing'; sha256sum -c SHA256SUMS 2>/dev/null; } |
    grep -v ': OK$') || :
[ -z "$unsound" ] || {
    printf '%s\n' "$unsound" >&2
    echo '@SELF@: the kit was changed or is incomplete; download it again. Nothing was done.' >&2; exit 3; }

expect() {  # number, target, SHA-256 of what must be there before it is changed
    [ ! -e "$keep/$1.saved" ] || return 0
    [ -f "$root/$2" ] || refuse "$root/$2 is not there"
    [ "$(digest "$root/$2")" = "$3" ] || refuse "$root/$2 is not the file that this kit was made for"
}

begin() {  # the folder for copies, and our turn among the kits that were put in here
    mkdir -p "$keep"
    grep -qx "$own" "$root/.doorstone/order" 2>/dev/null || printf '%s\n' "$own" >> "$root/.doorstone/order"
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
    if [ -e "$root/$2" ]; then cp -pP "$root/$2" "$keep/$1.before"; fi
    printf '%s\n' "$2" > "$keep/$1.target"
    : > "$keep/$1.saved"
}

put() {  # number, target, file in the kit: with the mode and the owner of what was there
    save "$1" "$2"
    case $2 in */*) folder "${2%/*}" ;; esac
    rm -f "$root/$2.doorstone-new"
    if [ -e "$root/$2" ]; then cp -p "$root/$2" "$root/$2.doorstone-new"; fi
    cat "$here/$3" > "$root/$2.doorstone-new"
    mv -f "$root/$2.doorstone-new" "$root/$2"
    digest "$root/$2" > "$keep/$1.after"
    printf 'in place: %s/%s\n' "$root" "$2"
}

drop() {  # number, target
    save "$1" "$2"
    rm -f "$root/$2"
    echo gone > "$keep/$1.after"
    printf 'removed: %s/%s\n' "$root" "$2"
}
"""
)

_PATCH = r"""
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
    rm -f "$root/$2.doorstone-new"
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

over=  # what was put in after this kit and lies over it
after_us=
if [ -f "$root/.doorstone/order" ]; then
    while IFS= read -r other; do
        if [ "$other" = "$own" ]; then after_us=1; continue; fi
        [ -n "$after_us" ] && [ -d "$root/.doorstone/$other" ] || continue
        for mine in "$keep"/*.target; do  # what was patched can be taken out in any order
            [ ! -e "${mine%.target}.back" ] || continue
            for theirs in "$root/.doorstone/$other"/*.target; do
                if [ -f "$mine" ] && [ -f "$theirs" ] && [ "$(cat "$mine")" = "$(cat "$theirs")" ]; then over=$other; fi
            done
        done
    done < "$root/.doorstone/order"
fi
[ -z "$over" ] || refuse "$over was put in after it, over the same files: undo $over first, then this one"

later() {  # number, target: what somebody else changed since is kept beside it, and named
    [ -f "$keep/$1.after" ] && [ -f "$root/$2" ] || return 0
    now=$(digest "$root/$2")
    [ "$now" != "$(cat "$keep/$1.after")" ] || return 0
    if [ -f "$keep/$1.before" ] && [ "$now" = "$(digest "$keep/$1.before")" ]; then return 0; fi
    mv -f "$root/$2" "$root/$2.later-$own"
    printf 'changed since by somebody else, kept as: %s/%s\n' "$root" "$2.later-$own"
}

back() {  # number, target
    [ -e "$keep/$1.saved" ] || return 0
    rm -f "$root/$2.doorstone-new" "$root/$2.doorstone-old"
    later "$1" "$2"
    if [ -e "$keep/$1.before" ]; then
        case $2 in */*) mkdir -p "$root/${2%/*}" ;; esac
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
    [ -e "$keep/$1.saved" ] || return 0
    if [ -e "$keep/$1.taken" ] && [ -f "$root/$2" ] && [ "$(digest "$root/$2")" = "$(cat "$keep/$1.taken")" ]; then
        rm -f "$keep/$1.saved"  # taken out already, in a run that was cut short
        return 0
    fi
    if [ -e "$keep/$1.after" ] && [ -f "$root/$2" ] && [ "$(digest "$root/$2")" != "$(cat "$keep/$1.after")" ]; then
        if [ -f "$keep/$1.before" ] && [ "$(digest "$root/$2")" = "$(digest "$keep/$1.before")" ]; then return 0; fi
        rm -f "$root/$2.doorstone-new"
        cp -p "$root/$2" "$root/$2.doorstone-new"
        json apply "$root/$2" "$keep/$1.back" "$root/$2.doorstone-new" || {
            rm -f "$root/$2.doorstone-new"
            printf '%s\n' '@SELF@: it was changed since in the same place. Nothing was undone there.' \
                "What was there before is in $keep/$1.before" >&2; exit 4; }
        digest "$root/$2.doorstone-new" > "$keep/$1.taken"
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
if [ -f "$root/.doorstone/order" ]; then
    grep -vx "$own" "$root/.doorstone/order" > "$root/.doorstone/order.new" || :
    mv -f "$root/.doorstone/order.new" "$root/.doorstone/order"
    [ -s "$root/.doorstone/order" ] || rm -f "$root/.doorstone/order"
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
    place=$1 want=$here/$3 folder=$root/${2%/*}
    set --
    for file in "$folder"/*.ini; do [ ! -f "$file" ] || set -- "$@" "$file"; done
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
look_json() {  # place, target, patch in the kit
    have=$root/$2
    [ ! -e "$have" ] || [ -f "$have" ] || have=/dev/null
    json look "$have" "$here/$3" '' '' '' "$1"
}
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
    checks = [(_LOOK_INI.replace("@NEAR@", NEAR), "ini" in kinds or not kinds), (JSON + _LOOK_JSON, "json" in kinds)]
    checks += [(_LOOK_FILE, bool(kinds & {"same", "gone"})), (_LOOK_LINES.replace("@NEAR@", NEAR), "lines" in kinds)]
    apply, undo, verify = area.scripts

    def fixed(text: str, name: str) -> str:
        return _fill(text, area, name, kit, patches, holds)

    guards = [_call("plain", p.target) for p in pieces]
    guards.append('plain ".doorstone/$own/0"')
    ahead = ["\n", *(f"{line}\n" for line in (*guards, *expects))]
    steps = [*ahead, "begin\n" if pieces else 'mkdir -p "$keep"\n', *(f"{line}\n" for line in puts)]
    takes_out = "\n".join(["", *guards, *backs, ""])
    texts = {
        apply: [fixed(_APPLY + (JSON + _PATCH if patches else ""), apply), *steps, f"echo {shlex.quote(next_step)}\n"],
        undo: [fixed(_UNDO + (JSON + _BACK_JSON if patches else ""), undo), takes_out, _UNDO_END],
        verify: [
            fixed(_VERIFY + "".join(text for text, used in checks if used), verify),
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


def _fill(text: str, area: KitTarget, self: str, kit: str, patches: bool, holds: Holds) -> str:
    of_a_machine = area is not MEDIA
    for word, value in (
        ("@HOLDS@", _HOLDS),
        ("@EXPIRES@", holds.expires.strftime("%Y%m%d") if holds.expires else "''"),
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
