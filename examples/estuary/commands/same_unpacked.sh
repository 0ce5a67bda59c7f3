#!/bin/sh
# Ends with 0 when two packed files hold the same, with 1 when they do not, with more when one cannot be unpacked.
one=$(mktemp) && two=$(mktemp) || exit 2
trap 'rm -f "$one" "$two"' EXIT
xz -dc "$1" >"$one" || exit 2
xz -dc "$2" >"$two" || exit 2
cmp -s "$one" "$two"
