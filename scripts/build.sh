#!/usr/bin/env bash
# Configures and builds one preset (default: release), or only some targets of it. Usage: build.sh [PRESET [TARGET …]]
set -eu
cd "$(dirname "$0")/.."
preset=${1:-release}
targets=(); [ $# -gt 1 ] && targets=(--target "${@:2}")
log=$(mktemp)
cmake --preset "$preset" >"$log" 2>&1 || { cat "$log"; exit 1; }
cmake --build --preset "$preset" "${targets[@]}" >"$log" 2>&1 || { cat "$log"; exit 1; }
rm -f "$log"
