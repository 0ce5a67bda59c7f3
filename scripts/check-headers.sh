#!/usr/bin/env bash
# Every header compiles alone; those of the core bring no third-party header, <thread>, <regex> or <iostream> along.
# Usage: check-headers.sh [COMPILER]
set -eu
top=$(cd "$(dirname "$0")/.." && pwd)
compiler=${1:-g++}
check() {
  local header=$1 used
  used=$("$compiler" -std=c++20 -I"$top" -fsyntax-only -H -x c++ -include "$top/$header" /dev/null 2>&1) ||
    { echo "$header does not compile alone:"; echo "$used" | grep -m3 error; return 1; }
  case $header in
    antcrew/report/* | antcrew/cli/* | antcrew/antcrew.hpp | antcrew/crew/by_cereal.hpp) return 0 ;;
  esac
  if grep -E '^\.+ .*/(fmt/|nlohmann/|CLI/|boost/|hwloc|c\+\+/[0-9]+/(thread|regex|iostream)$)' <<<"$used"; then
    echo "$header brings these along"; return 1
  fi
}
export -f check; export top compiler
cd "$top"
find antcrew -name '*.hpp' | sort | xargs --max-procs=2 -I{} bash -c 'check {}' || exit 1
