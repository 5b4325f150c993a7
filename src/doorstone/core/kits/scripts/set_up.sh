#!/bin/sh
# Starts set-up for kit @ID@ with the arguments that the exceptions allow, and no others.
# Usage: sh set-up [more arguments]     Set SET_UP to set-up on the media if it is not @PROGRAM@
set -eu
here=$(cd "$(dirname "$0")" && pwd)
exec "${SET_UP:-@PROGRAM@}" @ARGUMENTS@ "$@"
