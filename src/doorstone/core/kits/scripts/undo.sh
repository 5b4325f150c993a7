#!/bin/sh
# Puts back what was there before @WHAT@ of kit @ID@ were put in, from the copy taken then.
# Usage: sh @SELF@ [ROOT]     ROOT is @WHERE@
@COMMON@
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
    [ -s "$keep/$1.after" ] && [ -f "$root/$2" ] || return 0
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
