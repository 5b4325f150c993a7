        function least(a, b, c) { if (b < a) a = b; return c < a ? c : a }
        function distance(a, b,   i, j, d, cost) {
            for (i = 0; i <= length(a); i++) d[i, 0] = i
            for (j = 0; j <= length(b); j++) d[0, j] = j
            for (i = 1; i <= length(a); i++) for (j = 1; j <= length(b); j++) {
                cost = substr(a, i, 1) == substr(b, j, 1) ? 0 : 1
                d[i, j] = least(d[i-1, j] + 1, d[i, j-1] + 1, d[i-1, j-1] + cost)
            }
            return d[length(a), length(b)]
        }
        function slip(have, want,   i, x, y) {  # the first letter that is wrong, in words
            for (i = 1; substr(have, i, 1) == substr(want, i, 1); i++) if (i > length(have)) return ""
            x = substr(have, i, 1); y = substr(want, i, 1)
            if (length(have) < length(want)) return "letter " i ": " y " is missing"
            if (length(have) > length(want)) return "letter " i ": " x " is too many"
            return "letter " i ": " x " in place of " y
        }
