#!/usr/bin/env bash
# .clang-format decides layout. With --fix, rewrites the files instead of complaining.
set -eu
cd "$(dirname "$0")/.."
mode=(--dry-run --Werror); [ "${1:-}" = --fix ] && mode=(-i)
git ls-files -co --exclude-standard '*.hpp' '*.cpp' | xargs clang-format-14 "${mode[@]}"
