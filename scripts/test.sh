#!/usr/bin/env bash
# On a fresh machine: installs what is needed, builds, and runs all tests.
set -eu
cd "$(dirname "$0")/.."
scripts/packages.sh
scripts/build.sh release
exec ctest --preset release "$@"
