#!/usr/bin/env bash
# Installs the release build into a folder of its own and builds and runs a project outside the tree against it: found by
# CMake, by pkg-config, and with the tree as source (compiled; linked and run, too, with ANTCREW_WHOLE=1: minutes).
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
(cd "$work" && export PKG_CONFIG_PATH=$(dirname "$(find installed -name antcrew.pc)") &&
  g++ -O2 -std=c++20 consumer/crew_only.cpp -o crew_only $(pkg-config --cflags --libs antcrew) && ./crew_only)
timeout 60 "$work/build/load_plugin" "$work/build/libplugin.so" || { echo "a plug-in with crews does not work"; exit 1; }
cmake -S "$work/consumer" -B "$work/source" -G Ninja -DCMAKE_BUILD_TYPE=Debug -DANTCREW_FOLDER="$PWD" >"$work/source.log" 2>&1 ||
  { cat "$work/source.log"; exit 1; }
if [ "${ANTCREW_WHOLE:-}" = 1 ]; then
  cmake --build "$work/source" >"$work/source.log" 2>&1 || { tail -30 "$work/source.log"; exit 1; }
  (cd "$work" && short source/levels --sizes 1k --rounds 2 --workers 1,2 --save source.json >/dev/null && source/crew_only)
  grep -q '"flags": "-g"' "$work/source.json" || { echo "the record does not hold the flags of the project outside"; exit 1; }
else
  ninja -C "$work/source" CMakeFiles/crew_only.dir/crew_only.cpp.o >/dev/null
fi
echo "the installed package works"
