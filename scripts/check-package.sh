#!/usr/bin/env bash
# Makes the Debian package, installs it into a bare container, and uses it there as somebody who has just got it: the
# demo, a study linked through pkg-config and through CMake, the tree taken in as source, and the guides followed word by
# word. Needs root (chroot) and the host's package sources. Usage: check-package.sh [GUIDE …]   (default: loop, script)
# Exit 77: no container can be made here.
set -eu
cd "$(dirname "$0")/.."
top=$PWD
guides=("$@"); [ $# -gt 0 ] || guides=(loop script)
[ "$(id -u)" -eq 0 ] || { echo "not root: no container"; exit 77; }
work=$(mktemp -d); root=$work/root
trap 'umount "$root/proc" "$root/sys" "$root/dev/shm" 2>/dev/null || true; rm -rf "$work"' EXIT

cmake --build build/release --target antcrew_command antcrew_manual tides >/dev/null
(cd build/release && cpack -B "$work" >"$work/cpack.log" 2>&1) || { cat "$work/cpack.log"; exit 1; }
deb=$(ls "$work"/antcrew_*.deb)
echo "made: $(basename "$deb"), $(du -h "$deb" | cut -f1); needs $(dpkg-deb -f "$deb" Depends)"

# What a bare Debian has, and what a C++ programmer has: a compiler, CMake.
packages=g++,cmake,ninja-build,python3-minimal,man-db
[[ " ${guides[*]} " != *" cluster "* ]] || packages+=,openmpi-bin,libopenmpi-dev
cat /etc/apt/sources.list /etc/apt/sources.list.d/*.sources 2>/dev/null |
  mmdebstrap --quiet --variant=apt --include="$packages" "$(. /etc/os-release && echo "$VERSION_CODENAME")" "$root" - ||
  { echo "no container: the package sources cannot be reached"; exit 77; }
cp /etc/apt/apt.conf.d/99* "$root/etc/apt/apt.conf.d/" 2>/dev/null || true
cp /etc/resolv.conf "$root/etc/" 2>/dev/null || true
mkdir -p "$root/dev/shm"
mount -t proc proc "$root/proc" && mount -t sysfs sys "$root/sys" -o ro && mount -t tmpfs shm "$root/dev/shm" ||
  { echo "no container: nothing can be mounted here"; exit 77; }
inside() { chroot "$root" env -i PATH=/usr/bin:/bin:/usr/sbin:/sbin HOME=/root LANG=C.UTF-8 "$@"; }

cp "$deb" "$root/tmp/"
inside apt-get update -qq >"$work/apt.log" 2>&1 || { tail -5 "$work/apt.log"; echo "no container: package sources cannot be reached from it"; exit 77; }
inside sh -c 'DEBIAN_FRONTEND=noninteractive apt-get install -qq -y --no-install-recommends /tmp/antcrew_*.deb' \
  >"$work/apt.log" 2>&1 || { tail -20 "$work/apt.log"; exit 1; }
short() { local code=0; "$@" || code=$?; [ $code -eq 0 ] || [ $code -eq 1 ] || [ $code -eq 4 ]; }  # few rounds: "cannot tell" is the right end
inside antcrew --version
short inside antcrew demo --sizes 1k --rounds 3 >"$work/demo.txt" 2>&1 || { cat "$work/demo.txt"; exit 1; }
grep -q "cannot be read" "$work/demo.txt" && { echo "the demo lacks a file"; exit 1; }
grep -q "Stored as 1" "$work/demo.txt" || { echo "the demo was not stored"; cat "$work/demo.txt"; exit 1; }
inside antcrew list
inside sh -c 'man -P cat antcrew-show | grep -q "timeline\|trials" && man -P cat antcrew >/dev/null'
inside bash -c '. /usr/share/bash-completion/completions/antcrew; COMP_WORDS=(antcrew sho); COMP_CWORD=1; _antcrew; [ "${COMPREPLY[0]}" = show ]'
zsh -n "$root/usr/share/zsh/vendor-completions/_antcrew"
echo "installed: command, demo, manual, completion"

mkdir -p "$root/work"; cp -r tests/consumer "$root/work/consumer"
inside sh -c 'cd /work/consumer && g++ -O2 -std=c++20 main.cpp -o /work/by-hand $(pkg-config --cflags --libs antcrew)'
short inside /work/by-hand --sizes 1k --rounds 2 --workers 1,2 --save /work/by-hand.json >/dev/null
inside sh -c 'cmake -S /work/consumer -B /work/found -G Ninja -DCMAKE_BUILD_TYPE=Release && cmake --build /work/found' >"$work/found.log" 2>&1 ||
  { tail -30 "$work/found.log"; exit 1; }
short inside /work/found/levels --sizes 1k --rounds 2 --workers 1,2 --save /work/found.json >/dev/null
echo "linked by pkg-config and by CMake's find_package"

cp scripts/try-guides.py "$root/work/"
for guide in "${guides[@]}"; do
  inside python3 /work/try-guides.py "/usr/share/doc/antcrew/docs/guides/$guide.md" >"$work/guide.txt" 2>&1 || { cat "$work/guide.txt"; exit 1; }
  [ -z "${ANTCREW_SHOW_GUIDES:-}" ] || cat "$work/guide.txt"
  tail -2 "$work/guide.txt" | head -1
done
cd "$top"
