
forced=
as_found=
shift_one=1
for word in "$@"; do
    if [ "$shift_one" = 1 ]; then shift_one=0; continue; fi
    case $word in
        --as-found) as_found=$word ;;
        --force) forced=$word ;;
        *) printf '@SELF@: %s is not known; @OPTIONS@\n' "$word" >&2; exit 2 ;;
    esac
done

doubt() {  # what does not hold
    [ -z "$forced" ] || { printf '@SELF@: %s; going on, as --force has it\n' "$1" >&2; return 0; }
    printf '@SELF@: %s. Nothing was done. To go on all the same: sh @SELF@ ROOT --force\n' "$1" >&2
    exit 5
}

last=@EXPIRES@
[ -z "$last" ] || [ "$(date +%Y%m%d)" -le "$last" ] ||
    doubt "this kit was to be used through $last: an exception it rests on has lapsed"

first=@MADE_ON@
[ -z "$first" ] || [ "$(date +%Y%m%d)" -ge "$first" ] ||
    doubt "the clock of this machine says $(date +%Y%m%d), and the kit was made on $first: set the clock"

machine() {  # the names of this machine, whole and up to the first dot, and its serial number, in small letters
    {
        if [ -f "$root/etc/hostname" ]; then head -n 1 "$root/etc/hostname" | sed -e p -e 's/[.].*//'; fi
        if [ -z "$root" ]; then uname -n | sed -e p -e 's/[.].*//'; fi
        if [ -f "$root/sys/class/dmi/id/product_serial" ]; then
            head -n 1 "$root/sys/class/dmi/id/product_serial" 2>/dev/null || :
        fi
    } | tr -d ' \t\r' | tr '[:upper:]' '[:lower:]' | sort -u
}
known=@MACHINES@
if [ -n "$known" ]; then
    said=$(machine) fits=
    set -f
    for word in $said; do case " $known " in *" $word "*) fits=$word ;; esac; done
    set +f
    if [ -n "$said" ] && [ -z "$fits" ]; then
        doubt "this is $(printf '%s' "$said" | tr '\n' ' '), and the kit is for @DEVICES@"
    fi
fi
