
json() {  # mode (try, apply, look), document, patch or wanted, what to write, the way back to write, lax, place
    MODE=$1 DOC=$2 OPS=$3 OUT=${4:-} BACK=${5:-} LAX=${6:-} PLACE=${7:-} LC_ALL=C awk '
@JSON_PATCH@'
}
