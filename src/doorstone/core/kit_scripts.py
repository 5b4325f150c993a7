"""The fixed part of a kit's scripts, POSIX sh and awk. Whatever varies is put in by `kits`, always quoted.

A table function in each script names the settings files: number, file in the kit, target below the root.
"""

APPLY = r"""#!/bin/sh
# Puts the settings of kit @ID@ in place, after taking a copy of what was there. Doing it twice is harmless.
# Usage: sh apply [ROOT]     ROOT is the system's root, / if not given
set -eu
umask 022
here=$(cd "$(dirname "$0")" && pwd)
root=${1:-/}
[ -d "$root" ] || { printf 'apply: %s is not a folder\n' "$root" >&2; exit 2; }
root=${root%/}
kit=@QUOTED_ID@
keep=$root/.doorstone/$kit

(cd "$here" && sha256sum -c --quiet SHA256SUMS) || {
    echo 'apply: the kit was changed or is incomplete; download it again. Nothing was done.' >&2; exit 3; }

folder() {  # make a folder below the root, writing down each one that was not there
    [ -d "$root/$1" ] && return 0
    case $1 in */*) folder "${1%/*}" ;; esac
    printf '%s\n' "$1" >> "$keep/folders"
    mkdir "$root/$1"
}

put() {  # number, file in the kit, target below the root
    if [ ! -e "$keep/$1.saved" ]; then
        rm -f "$keep/$1.before"
        if [ -e "$root/$3" ] || [ -L "$root/$3" ]; then cp -pP "$root/$3" "$keep/$1.before"; fi
        : > "$keep/$1.saved"
    fi
    folder "${3%/*}"
    cp "$here/$2" "$root/$3.doorstone-new"
    mv -f "$root/$3.doorstone-new" "$root/$3"
    printf 'in place: %s/%s\n' "$root" "$3"
}

mkdir -p "$keep"
@PUTS@
echo @QUOTED_NEXT@
"""

UNDO = r"""#!/bin/sh
# Puts back what was there before kit @ID@ was applied, from the copy that apply took.
# Usage: sh undo [ROOT]
set -eu
root=${1:-/}
root=${root%/}
kit=@QUOTED_ID@
keep=$root/.doorstone/$kit
[ -d "$keep" ] || { printf 'undo: kit %s is not applied here; nothing to do.\n' "$kit"; exit 0; }

back() {  # number, target below the root
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

@BACKS@
if [ -e "$keep/folders" ]; then
    awk '{ line[NR] = $0 } END { for (i = NR; i > 0; i--) print line[i] }' "$keep/folders" |
    while IFS= read -r name; do rmdir "$root/$name" 2>/dev/null || :; done
fi
rm -rf "$keep"
rmdir "$root/.doorstone" 2>/dev/null || :
"""

VERIFY = r"""#!/bin/sh
# Says of each setting of kit @ID@ whether it is right, missing, different or a near-miss, as JSON.
# Usage: sh verify [ROOT]    Exit: 0 all right, 1 something is not, 2 wrong usage
set -eu
here=$(cd "$(dirname "$0")" && pwd)
root=${1:-/}
[ -d "$root" ] || { printf 'verify: %s is not a folder\n' "$root" >&2; exit 2; }
root=${root%/}
kit=@QUOTED_ID@

look() {  # place, file in the kit, folder below the root
    set -- "$1" "$here/$2" "$root/$3"/*.ini
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
        function least(a, b, c) { if (b < a) a = b; return c < a ? c : a }
        function distance(a, b,   i, j, d, cost) {
            for (i = 0; i <= length(a); i++) d[i, 0] = i
            for (j = 0; j <= length(b); j++) d[0, j] = j
            for (i = 1; i <= length(a); i++) for (j = 1; j <= length(b); j++) {
                cost = substr(a, i, 1) == substr(b, j, 1) ? 0 : 1
                d[i, j] = least(d[i-1, j] + 1, d[i, j-1] + 1, d[i-1, j-1] + cost)
            }
            return d[length(a), length(b)]
        }
        FNR == 1 { section = ""; file++ }
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
                if (near != "") printf ", \"near\": %s", text(near)
                print "}"
            }
        }' "$want" "$@"
}

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
exec "${SET_UP:-@RAW_PROGRAM@}" @ARGUMENTS@ "$@"
"""
