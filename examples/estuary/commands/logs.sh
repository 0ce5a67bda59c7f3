#!/bin/sh
# Makes so many lines of a logger's readings, always the same, from a seed: the input of tools.toml.
# Usage: logs.sh LINES FILE
awk -v n="$1" 'BEGIN { s = 20261126
  for (i = 0; i < n; ++i) { s = (s * 16807) % 2147483647
    printf "%010d buoy-%02d depth %.3f m\n", s, s % 40, (s % 30000) / 1000 } }' >"$2"
