
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
