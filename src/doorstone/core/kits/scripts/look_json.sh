
look_json() {  # place, target, patch in the kit
    have=$root/$2
    [ ! -e "$have" ] || [ -f "$have" ] || have=/dev/null
    json look "$have" "$here/$3" '' '' '' "$1"
}
