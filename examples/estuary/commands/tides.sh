#!/bin/sh
# The mean tide height at so many soundings, by awk: the whole range, or a part for each worker in the background.
# Usage: tides.sh SOUNDINGS WORKERS
. "$(dirname "$0")/phases.sh"
soundings=$1 workers=$2
heights() { # FIRST LAST: the sum of the heights between
  awk -v first="$1" -v last="$2" 'BEGIN {
    for (i = first; i < last; ++i) sum += 2 * sin(i * 0.001) + 0.3 * cos(i * 0.017) + 0.1 * sin(i * 0.23)
    printf "%.12f\n", sum }'
}
worker=0
while [ "$worker" -lt "$workers" ]; do
  heights $((soundings * worker / workers)) $((soundings * (worker + 1) / workers)) >"$ANTCREW_FOLDER/part-$worker" &
  worker=$((worker + 1))
done
wait
begin=$(now)
cat "$ANTCREW_FOLDER"/part-* | awk -v n="$soundings" '{ sum += $1 } END { printf "%.9f\n", sum / n }'
phase gather "$begin"
