#!/usr/bin/env bash
# Installs the packages of a list (default: packages.txt) that are missing, and shows which one it is at.
# Usage: packages.sh [LIST]
set -eu
top=$(cd "$(dirname "$0")/.." && pwd)
missing=()
for package in $(sed 's/#.*//' "$top/${1:-packages.txt}"); do
  dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
done
[ ${#missing[@]} -eq 0 ] && exit 0
echo "installing: ${missing[*]}"
as_root=(); [ "$(id -u)" -eq 0 ] || as_root=(sudo)
log=$(mktemp); trap 'rm -f "$log"' EXIT
# What apt says goes to a file, shown when it fails; one line a package to the terminal.
show() { tee "$log" | grep --line-buffered -oE '^(Get:[0-9]+ .*|Setting up [^ ]+|Unpacking [^ ]+)' |
  sed -uE 's/^Get:[0-9]+ [^ ]+ //; s/^/  /'; }
"${as_root[@]}" apt-get update 2>&1 | show || { cat "$log"; exit 1; }
DEBIAN_FRONTEND=noninteractive "${as_root[@]}" apt-get install -y --no-install-recommends "${missing[@]}" 2>&1 | show ||
  { cat "$log"; exit 1; }
