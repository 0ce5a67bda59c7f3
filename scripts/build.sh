#!/usr/bin/env bash
# Configures and builds one preset (default: release). Usage: build.sh [PRESET]
set -eu
cd "$(dirname "$0")/.."
preset=${1:-release}
log=$(mktemp)
cmake --preset "$preset" >"$log" 2>&1 || { cat "$log"; exit 1; }
cmake --build --preset "$preset" >"$log" 2>&1 || { cat "$log"; exit 1; }
rm -f "$log"
