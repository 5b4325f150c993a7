    function stop(words) { print words > "/dev/stderr"; bad = 1; exit 4 }
    function slurp(file,   row, text) {
        text = ""
        while ((getline row < file) > 0) text = text row "\n"
        close(file)
        return text
    }
    function load(file, empty,   node) {
        S = slurp(file); FILE = file
        if (S ~ /^[ \t\r\n]*$/) S = empty
        P = 1; L = length(S); node = value(); blank()
        if (P <= L) wrong("the end")
        return node
    }
    function wrong(what) { stop(FILE ": not JSON at letter " P ": " what " was expected") }
    function blank() { while (P <= L && index(" \t\r\n", substr(S, P, 1))) P++ }
    function value(   id, c, key, node, from) {
        blank(); id = ++nodes; c = substr(S, P, 1); size[id] = 0
        if (c == "{" || c == "[") {
            kind[id] = c; P++; blank()
            if (substr(S, P, 1) == (c == "{" ? "}" : "]")) { P++; return id }
            while (1) {
                blank(); key = ""
                if (c == "{") {
                    if (substr(S, P, 1) != "\"") wrong("a name")
                    key = word(); blank()
                    if (substr(S, P, 1) != ":") wrong("a colon")
                    P++
                }
                node = value(); put(id, key, node); blank()
                from = substr(S, P, 1); P++
                if (from == (c == "{" ? "}" : "]")) return id
                if (from != ",") { P--; wrong("a comma") }
            }
        }
        if (c == "\"") { kind[id] = "s"; text[id] = word(); return id }
        from = P
        while (P <= L && index(",]} \t\r\n", substr(S, P, 1)) == 0) P++
        text[id] = substr(S, from, P - from)
        if (text[id] ~ /^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?$/) kind[id] = "n"
        else if (text[id] ~ /^(true|false|null)$/) kind[id] = "w"
        else { P = from; wrong("a value") }
        return id
    }
    function put(id, key, node) { size[id]++; name[id, size[id]] = key; child[id, size[id]] = node }
    function word(   out, c, n, low) {
        P++; out = ""
        while (P <= L) {
            c = substr(S, P, 1)
            if (c == "\"") { P++; return out }
            if (c != "\\") { out = out c; P++; continue }
            c = substr(S, P + 1, 1); P += 2
            if (c != "u") { out = out (c == "/" ? "/" : "\\" c); continue }
            n = hex(substr(S, P, 4)); P += 4
            if (n >= 55296 && n < 56320 && substr(S, P, 2) == "\\u") {
                low = hex(substr(S, P + 2, 4))
                if (low >= 56320 && low < 57344) { n = 65536 + (n - 55296) * 1024 + low - 56320; P += 6 }
            }
            out = out letter(n)
        }
        wrong("the end of a text")
    }
    function hex(s,   i, n, d) {
        n = 0
        for (i = 1; i <= 4; i++) {
            d = index("0123456789abcdef", tolower(substr(s, i, 1))) - 1
            if (d < 0 || length(s) < 4) wrong("four hexadecimal digits")
            n = n * 16 + d
        }
        return n
    }
    function letter(n) {  # as JSON text holds it: escaped where it must be, else UTF-8
        if (n == 34 || n == 92) return "\\" sprintf("%c", n)
        if (n == 8) return "\\b"; if (n == 9) return "\\t"; if (n == 10) return "\\n"
        if (n == 12) return "\\f"; if (n == 13) return "\\r"
        if (n < 32 || (n >= 55296 && n < 57344)) return sprintf("\\u%04x", n)
        if (n < 128) return sprintf("%c", n)
        if (n < 2048) return sprintf("%c%c", 192 + int(n / 64), 128 + n % 64)
        if (n < 65536) return sprintf("%c%c%c", 224 + int(n / 4096), 128 + int(n / 64) % 64, 128 + n % 64)
        return sprintf("%c%c%c%c", 240 + int(n / 262144), 128 + int(n / 4096) % 64, \
            128 + int(n / 64) % 64, 128 + n % 64)
    }
    function show(id, pad,   i, out, open, shut) {
        if (kind[id] == "s") return "\"" text[id] "\""
        if (kind[id] != "{" && kind[id] != "[") return text[id]
        open = kind[id]; shut = open == "{" ? "}" : "]"
        if (!size[id]) return open shut
        out = open
        for (i = 1; i <= size[id]; i++) {
            if (i > 1) out = out ","
            out = out (pad == "flat" ? (i > 1 ? " " : "") : "\n" pad "  ")
            if (open == "{") out = out "\"" name[id, i] "\": "
            out = out show(child[id, i], pad == "flat" ? pad : pad "  ")
        }
        return out (pad == "flat" ? "" : "\n" pad) shut
    }
    function same(a, b,   i, j, hit) {
        if (kind[a] != kind[b]) return 0
        if (kind[a] == "n") return text[a] + 0 == text[b] + 0
        if (kind[a] == "s" || kind[a] == "w") return text[a] "" == text[b] ""
        if (size[a] != size[b]) return 0
        for (i = 1; i <= size[a]; i++) {
            if (kind[a] == "[") { if (!same(child[a, i], child[b, i])) return 0; continue }
            hit = at(b, name[a, i])
            if (!hit || !same(child[a, i], child[b, hit])) return 0
        }
        return 1
    }
    function at(id, key,   i) {
        if (kind[id] == "{") for (i = size[id]; i > 0; i--) if (name[id, i] "" == key "") return i
        return 0
    }
    function member(id, key,   i) { i = at(id, key); return i ? child[id, i] : 0 }
    # The node at a path, or 0; HOME is the object that it is or would be in, KEY its name there.
    function find(id, path,   n, i, steps) {
        n = split(substr(path, 2), steps, "/"); HOME = 0
        for (i = 1; i <= n; i++) {
            if (!id || kind[id] != "{") { HOME = 0; return 0 }
            KEY = steps[i]; gsub(/~1/, "/", KEY); gsub(/~0/, "~", KEY)
            HOME = id; id = member(id, KEY)
        }
        return id
    }
    function undo_of(first, second) { back = first (second ? ", " second : "") (back ? ", " back : "") }
    function step(op, path, given) {
        return "{\"op\": \"" op "\", \"path\": \"" path "\"" (given ? ", \"value\": " show(given, "flat") : "") "}"
    }
    function run(doc, ops, lax,   i, j, item, op, path, given, node) {
        for (i = 1; i <= size[ops]; i++) {
            item = child[ops, i]; op = text[member(item, "op")]; path = text[member(item, "path")]
            given = member(item, "value"); node = find(doc, path)
            if (op == "test") {
                if (lax || (node && same(node, given))) continue
                stop(ENVIRON["DOC"] ": " path " is " (node ? show(node, "flat") : "not there") \
                    ", not " show(given, "flat"))
            }
            if (!HOME) stop(ENVIRON["DOC"] ": " path " has no place")
            if (node && op == "add") {
                if (!lax) stop(ENVIRON["DOC"] ": " path " is there already, as " show(node, "flat"))
                if (kind[node] == "{" && kind[given] == "{" && !size[given]) continue
            }
            if (!node && op != "add" && !(lax && op == "replace")) stop(ENVIRON["DOC"] ": " path " is not there")
            if (op == "remove") {
                undo_of(step("add", path, node))
                for (j = at(HOME, KEY); j < size[HOME]; j++) {
                    name[HOME, j] = name[HOME, j + 1]; child[HOME, j] = child[HOME, j + 1]
                }
                size[HOME]--
            } else if (node) {
                undo_of(step("test", path, given), step("replace", path, node)); child[HOME, at(HOME, KEY)] = given
            } else {
                undo_of(step("test", path, given), step("remove", path)); put(HOME, KEY, given)
            }
        }
    }
@NEAR@    function look(doc, wanted,   i, j, item, path, given, node, near, state) {
        for (i = 1; i <= size[wanted]; i++) {
            item = child[wanted, i]; path = text[member(item, "path")]; given = member(item, "value")
            node = find(doc, path); near = ""; state = "missing"
            if (node) state = same(node, given) ? "right" : "different"
            else if (HOME) for (j = 1; j <= size[HOME]; j++) {
                if (distance(tolower(name[HOME, j]), tolower(KEY)) > 2 || (near != "" && name[HOME, j] > near)) continue
                near = name[HOME, j]; node = child[HOME, j]; state = "near-miss"
            }
            printf "{\"place\": \"%s\", \"section\": %s, \"name\": %s, \"state\": \"%s\", \"expected\": %s", \
                ENVIRON["PLACE"], show(member(item, "section")), show(member(item, "name")), state, show(given, "flat")
            if (state == "different" || state == "near-miss") printf ", \"found\": %s", show(node, "flat")
            if (near != "") printf ", \"near\": \"%s\", \"slip\": \"%s\"", near, slip(near, KEY)
            print "}"
        }
    }
    BEGIN {
        doc = load(ENVIRON["DOC"], "{}"); ops = load(ENVIRON["OPS"], "[]")
        if (ENVIRON["MODE"] == "look") { look(doc, ops); exit }
        back = ""; run(doc, ops, ENVIRON["LAX"])
        if (ENVIRON["MODE"] == "apply") {
            print show(doc, "") > ENVIRON["OUT"]
            if (ENVIRON["BACK"]) print "[" back "]" > ENVIRON["BACK"]
        }
    }
    END { if (bad) exit 4 }