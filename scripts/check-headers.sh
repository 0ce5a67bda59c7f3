#!/usr/bin/env bash
# Every header compiles alone; those of the core bring no third-party header, <thread>, <regex> or <iostream> along, and
# what every study program reads brings no heavy standard header either. A header that a source file includes first has
# been compiled alone by the build; here only its includes are read. Usage: check-headers.sh [COMPILER]
set -eu
top=$(cd "$(dirname "$0")/.." && pwd)
compiler=${1:-g++}
check() {
  local header=$1 source used more=
  source=${header%.hpp}.cpp
  case $header in
    antcrew/ranks/*) more=$(pkg-config --cflags mpi-c 2>/dev/null) || return 0 ;;  # no MPI, no ranks
  esac
  if [ ! -f "$source" ] || [ "$(grep -m1 '^#include' "$source")" != "#include \"$header\"" ]; then
    "$compiler" -std=c++20 -I"$top" $more -fsyntax-only -x c++ -include "$top/$header" /dev/null ||
      { echo "$header does not compile alone"; return 1; }
  fi
  case $header in
    antcrew/sweep/* | antcrew/report/* | antcrew/store/* | antcrew/cli/* | antcrew/ranks/* | antcrew/antcrew.hpp | antcrew/crew/by_cereal.hpp) return 0 ;;
  esac
  used=$("$compiler" -std=c++20 -I"$top" -M -x c++ -include "$top/$header" /dev/null | tr ' \\' '\n\n')
  if grep -E '/(fmt|nlohmann|CLI|boost)/|/hwloc|/c\+\+/[0-9]+/(thread|regex|iostream)$' <<<"$used"; then
    echo "$header brings these along"; return 1
  fi
  [ "$header" = antcrew/studies.hpp ] || return 0
  if grep -E '/c\+\+/[0-9]+/(algorithm|functional|memory|mutex|stop_token|chrono|ostream)$' <<<"$used"; then
    echo "$header brings these along, and every study program would compile them"; return 1
  fi
}
export -f check; export top compiler
cd "$top"
find antcrew -name '*.hpp' | sort | xargs --max-procs=2 -I{} bash -c 'check {}' || exit 1
