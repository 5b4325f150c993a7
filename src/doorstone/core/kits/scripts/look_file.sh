
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
