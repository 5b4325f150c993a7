set -eu
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

note() {  # file, text: a note of the kit, whole or not there, also after a power cut
    printf '%s\n' "$2" > "$1.doorstone-new"
    mv -f "$1.doorstone-new" "$1"
}

no_links() {  # nothing that kits keep, and none of their folders, is a link
    for kept in "$root/.doorstone" "$root/.doorstone"/* "$root/.doorstone"/*/*; do
        [ ! -L "$kept" ] || refuse "$kept is a link, and links are not followed"
    done
}

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
