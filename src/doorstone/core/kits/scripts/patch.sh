
fits() {  # number, target, patch in the kit: whether it can be applied, before anything is done
    [ ! -e "$keep/$1.saved" ] || return 0
    json try "$root/$2" "$here/$3" '' '' "$as_found" || {
        printf '%s\n' '@SELF@: this is not as the maker ships it. Nothing was done.' \
            'To take it as it is found, and bring that back with undo: sh @SELF@ ROOT --as-found' >&2; exit 4; }
}

patch() {  # number, target, patch in the kit
    save "$1" "$2"
    from=$keep/$1.before lax=$as_found back=$keep/$1.back
    if [ -s "$keep/$1.after" ]; then from=$root/$2 lax=again back=; fi
    case $2 in */*) folder "${2%/*}" ;; esac
    rm -f "$root/$2.doorstone-new"
    if [ -e "$root/$2" ]; then cp -p "$root/$2" "$root/$2.doorstone-new"; fi
    json apply "$from" "$here/$3" "$root/$2.doorstone-new" "${back:+$back.doorstone-new}" "$lax"
    [ -z "$back" ] || mv -f "$back.doorstone-new" "$back"
    note "$keep/$1.after" "$(digest "$root/$2.doorstone-new")"
    mv -f "$root/$2.doorstone-new" "$root/$2"
    printf 'in place: %s/%s\n' "$root" "$2"
}
