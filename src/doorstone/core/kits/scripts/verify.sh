#!/bin/sh
# Says of @WHAT@ of kit @ID@, one by one, whether each is right, missing, different or a near-miss, as JSON.
# Usage: sh @SELF@ [ROOT]     ROOT is @WHERE@. Exit: 0 all right, 1 something is not, 2 wrong usage
@COMMON@