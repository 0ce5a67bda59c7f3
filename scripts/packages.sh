#!/usr/bin/env bash
# Installs the packages of packages.txt that are missing.
set -eu
top=$(cd "$(dirname "$0")/.." && pwd)
missing=()
for package in $(sed 's/#.*//' "$top/packages.txt"); do
  dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
done
[ ${#missing[@]} -eq 0 ] && exit 0
echo "installing: ${missing[*]}"
as_root=(); [ "$(id -u)" -eq 0 ] || as_root=(sudo)
"${as_root[@]}" apt-get update -qq
DEBIAN_FRONTEND=noninteractive "${as_root[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
