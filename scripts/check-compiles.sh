#!/usr/bin/env bash
# Whether all sources below some folders compile without a warning; nothing is kept.
# Usage: check-compiles.sh COMPILER FOLDER…
set -eu
cd "$(dirname "$0")/.."
export compiler=$1; shift
work=$(mktemp -d); trap 'rm -rf "$work"' EXIT
# What the build says about itself, and the flags that libraries need.
export flags="-std=c++20 -I. -Itests -Iexamples -Wall -Wextra -Wpedantic -Wconversion -Werror -DANTCREW_VERSION=\"0\" \
  -DANTCREW_COMMAND=\"\" -DANTCREW_EXAMPLES=\"\" -DANTCREW_COMPILER=\"\" -DANTCREW_SOURCE=\"\" -DANTCREW_PLANTED=\"\" -DANTCREW_ANEW=\"\" \
  -DANTCREW_BUILD_TYPE=\"\" -DANTCREW_BUILD_FLAGS=\"\" -DOMPI_SKIP_MPICXX \
  $({ pkg-config --cflags eigen3 cpp-httplib; pkg-config --cflags ompi 2>/dev/null || true; } | tr '\n' ' ' | sed 's/-I/-isystem /g')"
[ "$compiler" = g++ ] && flags+=" -Wno-restrict"
# Most of them include all of Ant Crew: parsed once.
export parsed=$work/parsed.hpp
echo '#include <antcrew/antcrew.hpp>' >"$parsed"
if [ "$compiler" = g++ ]; then
  "$compiler" $flags -x c++-header "$parsed" -o "$parsed.gch"
  export with_parsed="-include $parsed"
else
  "$compiler" $flags -x c++-header "$parsed" -o "$parsed.pch"
  export with_parsed="-include-pch $parsed.pch"
fi
# Ranks only where their library is installed.
ranks=$(pkg-config --exists ompi && echo 'x^' || echo '<mpi.h>|antcrew/ranks/')
find "$@" -name '*.cpp' | sort | xargs grep -LE "$ranks" | xargs --max-procs=2 -I{} sh -c \
  'with=; grep -q "include <antcrew/antcrew.hpp>" {} && with=$with_parsed
   "$compiler" $flags $with -fsyntax-only {} || { echo "{} does not compile"; exit 1; }'
