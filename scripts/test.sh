#!/usr/bin/env bash
# On a fresh machine: installs what is needed, builds, and runs all tests; shows what it is at. Arguments go to ctest.
# ANTCREW_MEANWHILE: a command to start beside the tests, at idle priority.
set -eu
cd "$(dirname "$0")/.."
echo "1. packages"
scripts/packages.sh
echo "2. build, some 6 minutes on two processors ($SECONDS s)"
ANTCREW_SHOW_BUILD=1 scripts/build.sh release
if [ -n "${ANTCREW_MEANWHILE:-}" ]; then
  idle=(nice -n 19); chrt --idle 0 true 2>/dev/null && idle=(chrt --idle 0)
  "${idle[@]}" "$ANTCREW_MEANWHILE" </dev/null >/dev/null 2>&1 &
fi
echo "3. tests, some 10 minutes ($SECONDS s)"
exec ctest --preset release "$@"
