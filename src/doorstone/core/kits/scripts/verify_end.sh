
rows=$(
@LOOKS@
:
)
case $rows in *'"state": "missing"'*|*'"state": "different"'*|*'"state": "near-miss"'*) ok=false ;; *) ok=true ;; esac
printf '{"kit": "%s", "ok": %s, "settings": [' "$kit" "$ok"
printf '%s' "$rows" | awk 'NR > 1 { printf "," } { printf "\n  %s", $0 } END { if (NR) print "" }'
printf ']}\n'
[ "$ok" = true ]
