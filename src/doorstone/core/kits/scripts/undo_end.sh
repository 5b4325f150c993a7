if [ -e "$keep/folders" ]; then
    awk '{ line[NR] = $0 } END { for (i = NR; i > 0; i--) print line[i] }' "$keep/folders" |
    while IFS= read -r name; do rmdir "$root/$name" 2>/dev/null || :; done
fi
if [ -f "$root/.doorstone/order" ]; then
    grep -vx "$own" "$root/.doorstone/order" > "$root/.doorstone/order.new" || :
    mv -f "$root/.doorstone/order.new" "$root/.doorstone/order"
    [ -s "$root/.doorstone/order" ] || rm -f "$root/.doorstone/order"
fi
rm -rf "$keep"
rmdir "$root/.doorstone" 2>/dev/null || :
