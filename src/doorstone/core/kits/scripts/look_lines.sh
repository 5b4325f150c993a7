
look_lines() {  # place, target, file in the kit: every line of it, wherever it stands in the target
    have=$root/$2
    [ -f "$have" ] || have=/dev/null
    PLACE=$1 TARGET=$2 LC_ALL=C awk '
        function text(s,   i, c, out) {
            out = ""
            for (i = 1; i <= length(s); i++) {
                c = substr(s, i, 1)
                out = out (c == "\\" || c == "\"" ? "\\" c : c < " " ? "?" : c)
            }
            return "\"" out "\""
        }
@NEAR@        { sub(/[ \t\r]+$/, "") }
        FILENAME == ARGV[1] { if ($0 != "") want[++wanted] = $0; next }
        { have[$0] = 1; line[++lines] = $0 }
        END {
            for (n = 1; n <= wanted; n++) {
                state = want[n] in have ? "right" : "missing"; near = ""
                if (state == "missing") for (i = 1; i <= lines && near == ""; i++)
                    if (length(line[i]) > 4 && distance(line[i], want[n]) <= 2) { near = line[i]; state = "near-miss" }
                printf "{\"place\": %s, \"section\": \"\", \"name\": %s, \"state\": \"%s\", \"expected\": %s", \
                    text(ENVIRON["PLACE"]), text(ENVIRON["TARGET"] ", line " n), state, text(want[n])
                if (near != "") printf ", \"found\": %s, \"near\": %s, \"slip\": %s", \
                    text(near), text(near), text(slip(near, want[n]))
                print "}"
            }
        }' "$here/$3" "$have"
}
