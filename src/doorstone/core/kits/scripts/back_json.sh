
pass_on() {  # number, target, digest of the file without this kit: kits that lie over it rest on what was before it
    now=$(digest "$root/$2")
    for theirs in "$root/.doorstone"/*/*.target; do
        [ -f "$theirs" ] && [ "$theirs" != "$keep/$1.target" ] && [ "$(cat "$theirs")" = "$2" ] || continue
        over=${theirs%.target}
        if [ -f "$over.before" ] && [ "$(digest "$over.before")" = "$(cat "$keep/$1.after")" ]; then
            if [ -f "$keep/$1.before" ]; then
                cp -pP "$keep/$1.before" "$over.before.doorstone-new"
                mv -f "$over.before.doorstone-new" "$over.before"
            else
                rm -f "$over.before"
            fi
        fi
        if [ -s "$over.after" ] && [ "$(cat "$over.after")" = "$now" ]; then note "$over.after" "$3"; fi
    done
}

mixed() {  # number, target: whether others changed the file since, so that only what the kit put in is taken out
    [ -s "$keep/$1.after" ] && [ -f "$root/$2" ] || return 1
    now=$(digest "$root/$2")
    [ "$now" != "$(cat "$keep/$1.after")" ] || return 1
    [ ! -f "$keep/$1.before" ] || [ "$now" != "$(digest "$keep/$1.before")" ] || return 1
    [ ! -s "$keep/$1.taken" ] || [ "$now" != "$(cat "$keep/$1.taken")" ] || return 1
}

ready_json() {  # number, target: refuse before anything is undone if the kit's part cannot be taken out
    [ -e "$keep/$1.saved" ] && mixed "$1" "$2" || return 0
    json try "$root/$2" "$keep/$1.back" || {
        printf '%s\n' '@SELF@: it was changed since in the same place. Nothing was undone.' \
            "What was there before is in $keep/$1.before" >&2; exit 4; }
}

back_json() {  # number, target: the copy if nothing else has changed since, else only what the kit put in
    [ -e "$keep/$1.saved" ] || return 0
    if [ -s "$keep/$1.taken" ] && [ -f "$root/$2" ] && [ "$(digest "$root/$2")" = "$(cat "$keep/$1.taken")" ]; then
        rm -f "$keep/$1.saved"  # taken out already, in a run that was cut short
        return 0
    fi
    if mixed "$1" "$2"; then
        rm -f "$root/$2.doorstone-new"
        cp -p "$root/$2" "$root/$2.doorstone-new"
        json apply "$root/$2" "$keep/$1.back" "$root/$2.doorstone-new" || {
            rm -f "$root/$2.doorstone-new"
            printf '%s\n' '@SELF@: it was changed since in the same place. Nothing was undone there.' \
                "What was there before is in $keep/$1.before" >&2; exit 4; }
        note "$keep/$1.taken" "$(digest "$root/$2.doorstone-new")"
        pass_on "$1" "$2" "$(cat "$keep/$1.taken")"
        mv -f "$root/$2.doorstone-new" "$root/$2"
        printf 'taken out, what others changed since is kept: %s/%s\n' "$root" "$2"
        rm -f "$keep/$1.saved"
        return 0
    fi
    back "$1" "$2"
}
