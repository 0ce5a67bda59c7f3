#!/usr/bin/env bash
# The studies of the building blocks still compile: they are built only to be run. Usage: check-bench.sh [COMPILER]
set -eu
cd "$(dirname "$0")/.."
export compiler=${1:-g++}
find bench -name '*.cpp' | sort | xargs --max-procs=2 -I{} sh -c \
  '"$compiler" -std=c++20 -I. -Wall -Wextra -Wpedantic -Wconversion -Werror -Wno-restrict -fsyntax-only {} || { echo "{} does not compile"; exit 1; }'
