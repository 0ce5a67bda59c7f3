#!/usr/bin/env bash
# Configures and builds one preset (default: release), or only some targets of it. Usage: build.sh [PRESET [TARGET …]]
# With ANTCREW_SHOW_BUILD=1 it shows which file it is at; otherwise it is silent unless it fails.
set -eu
cd "$(dirname "$0")/.."
preset=${1:-release}
targets=(); [ $# -gt 1 ] && targets=(--target "${@:2}")
log=$(mktemp)
cmake --preset "$preset" >"$log" 2>&1 || { cat "$log"; exit 1; }
if [ -n "${ANTCREW_SHOW_BUILD:-}" ]; then
  NINJA_STATUS="  [%f of %t, %e s] " cmake --build --preset "$preset" "${targets[@]}" || exit 1
else
  cmake --build --preset "$preset" "${targets[@]}" >"$log" 2>&1 || { cat "$log"; exit 1; }
fi
rm -f "$log"
