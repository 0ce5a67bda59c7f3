#!/usr/bin/env bash
# Installs the release build into a folder of its own and builds and runs a project outside the tree against it.
set -eu
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
# Two rounds are too few to call anything: these runs must end, and "cannot tell" (4) is then the right end.
short() { "$@" || [ $? -eq 4 ]; }
cmake --install build/release --prefix "$work/installed" >/dev/null
cp -r tests/consumer "$work/consumer"
cmake -S "$work/consumer" -B "$work/build" -G Ninja -DCMAKE_BUILD_TYPE=Release \
  -DCMAKE_PREFIX_PATH="$work/installed" >/dev/null
cmake --build "$work/build" >/dev/null
(cd "$work" && short build/levels --sizes 1k --rounds 2 --workers 1,2 --save levels.json)
grep -q '"flags": "-O3 -DNDEBUG"' "$work/levels.json" || { echo "the record does not hold the consumer's flags"; exit 1; }
(cd "$work" && short installed/bin/antcrew demo --sizes 100 --rounds 1 >/dev/null)
echo "the installed package works"
