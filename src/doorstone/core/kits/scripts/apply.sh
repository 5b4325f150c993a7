#!/bin/sh
# Puts @WHAT@ of kit @ID@ in place, after taking a copy of what was there. Doing it twice is harmless.
# Usage: sh @SELF@ [ROOT@LAX_WORDS@ [--force]]     ROOT is @WHERE@
@COMMON@@HOLDS@
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
    if [ -e "$root/$2" ]; then
        cp -pP "$root/$2" "$keep/$1.before.doorstone-new"
        mv -f "$keep/$1.before.doorstone-new" "$keep/$1.before"
    fi
    note "$keep/$1.target" "$2"
    note "$keep/$1.saved" saved
}

put() {  # number, target, file in the kit: with the mode and the owner of what was there
    save "$1" "$2"
    case $2 in */*) folder "${2%/*}" ;; esac
    rm -f "$root/$2.doorstone-new"
    if [ -e "$root/$2" ]; then cp -p "$root/$2" "$root/$2.doorstone-new"; fi
    cat "$here/$3" > "$root/$2.doorstone-new"
    note "$keep/$1.after" "$(digest "$root/$2.doorstone-new")"
    mv -f "$root/$2.doorstone-new" "$root/$2"
    printf 'in place: %s/%s\n' "$root" "$2"
}

drop() {  # number, target
    save "$1" "$2"
    note "$keep/$1.after" gone
    rm -f "$root/$2"
    printf 'removed: %s/%s\n' "$root" "$2"
}
