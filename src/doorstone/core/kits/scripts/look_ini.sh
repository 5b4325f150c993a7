
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
