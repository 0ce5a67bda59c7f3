#!/usr/bin/env bash
# Usual mistakes of users: the first error names what is wrong, and the whole stays short. Usage: check-mistakes.sh [COMPILER]
set -eu
export top=$(cd "$(dirname "$0")/.." && pwd) compiler=${1:-g++} longest=30
work=$(mktemp -d); trap 'rm -rf "$work"' EXIT
awk -v work="$work" '
  /^== / { ++n; words[n] = substr($0, 4); next }
  /^#include/ && n { header[n] = $0; next }
  n && NF && !/^#/ {
    file = sprintf("%s/%02d", work, n)
    print words[n] > (file ".words")
    printf "%s\n#include <functional>\n#include <vector>\nusing namespace antcrew;\nint main() {\n%s\n}\n", header[n], $0 > (file ".cpp")
  }' "$top/tests/mistakes/mistakes.txt"
check() {
  local words=$(cat "$1.words") out
  # A user compiles with the library as a system header would not be: notes of where it was called stay.
  if out=$("$compiler" -std=c++20 -I"$top" -fsyntax-only "$1.cpp" 2>&1); then
    echo "compiles, and should say '$words':"; sed -n 6p "$1.cpp"; return 1
  fi
  local first=$(grep -m1 'error: ' <<<"$out") lines=$(wc -l <<<"$out")
  grep -qF -- "$words" <<<"$first" || { printf "should say '%s' first, says:\n%s\n" "$words" "$first"; return 1; }
  [ "$lines" -lt "$longest" ] || { printf "'%s' comes in %s lines:\n%s\n" "$words" "$lines" "$out"; return 1; }
}
export -f check
ls "$work"/*.cpp | sed 's/\.cpp$//' | xargs --max-procs=2 -I{} bash -c 'check {}' || exit 1
echo "$(ls "$work"/*.cpp | wc -l) mistakes are named ($compiler)"
"$compiler" -std=c++20 -I"$top" -fsyntax-only "$top/tests/mistakes/own_names.cpp" || exit 1
echo "a program has its own $(grep -o 'struct [A-Z][A-Za-z]* {}' "$top/tests/mistakes/own_names.cpp" | wc -l) everyday names ($compiler)"
