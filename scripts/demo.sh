#!/usr/bin/env bash
# On a fresh machine: installs what is needed, builds, and runs the demo.
set -eu
cd "$(dirname "$0")/.."
scripts/packages.sh
scripts/build.sh release
exec build/release/command/antcrew demo "$@"
