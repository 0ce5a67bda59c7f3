#!/usr/bin/env bash
# On a fresh machine: installs what the demo needs, builds it, and runs it. Says where it is and where the time went.
set -euo pipefail
cd "$(dirname "$0")/.."
began=$SECONDS
echo "1. packages (${SECONDS} s)"
scripts/packages.sh packages-demo.txt
packages=$((SECONDS - began))
echo "2. build, about two minutes on two processors ($((SECONDS - began)) s)"
ANTCREW_SHOW_BUILD=1 scripts/build.sh demo antcrew_command tides
build=$((SECONDS - began - packages))
echo "3. demo, under half a minute ($((SECONDS - began)) s: packages ${packages} s, build ${build} s)"
echo
exec build/demo/command/antcrew demo "$@"
