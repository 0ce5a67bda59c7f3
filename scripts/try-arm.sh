#!/usr/bin/env bash
# The test programs of crews, algorithms and shared containers as 64-bit ARM programs, emulated one by one: their orders
# of memory are compiled for a processor that uses them. (The emulator's own orders are those of this machine.) Left out
# are crews of processes and sandboxes, as the emulator does not pass on all that they ask of the kernel, and what is
# decided by the time that work takes.
#
# A processor of this kind keeps a store-release and a load-acquire after it in order; the emulator, version 7.2, does
# not: on an x86 processor the load overtakes the store, in some of a thousand tries. So each store-release is followed
# by a barrier in what is run here, which adds nothing that the processor would not do.
# Takes some ten minutes. Usage: try-arm.sh [FOLDER]; FOLDER keeps what was compiled.
#
# Needs the packages g++-aarch64-linux-gnu, qemu-user-static, and apt-get with the architecture arm64 added
# (dpkg --add-architecture arm64; apt-get update), which brings the libraries.
set -euo pipefail
cd "$(dirname "$0")/.."
folder=${1:-$(mktemp -d)}
mkdir -p "$folder/packages" "$folder/objects"
for tool in aarch64-linux-gnu-g++ qemu-aarch64-static; do
  command -v $tool >/dev/null || { echo "try-arm: $tool is missing" >&2; exit 3; }
done
[ -d "$folder/root" ] || (cd "$folder/packages" &&
  apt-get download -q libfmt9:arm64 libfmt-dev:arm64 libhwloc15:arm64 libhwloc-dev:arm64 libudev1:arm64 libcap2:arm64 2>/dev/null &&
  for package in *.deb; do dpkg-deb -x "$package" ../root; done)
libraries=$folder/root/usr/lib/aarch64-linux-gnu
export folder flags="-std=c++20 -O1 -I. -Itests -Wno-psabi -Wno-restrict -idirafter /usr/include -idirafter /usr/include/$(g++ -print-multiarch) \
  -DANTCREW_VERSION=\"0\" -DANTCREW_LONGEST_CASE_S=900 -DANTCREW_SOURCE=\"$PWD\" -DANTCREW_COMMAND=\"none\" -DANTCREW_EXAMPLES=\"none\" \
  -DANTCREW_COMPILER=\"none\""
layers=(base machine log crew algorithm share)
find "${layers[@]/#/antcrew/}" tests/{crew,algorithm,share,support} -name '*.cpp' | sort >"$folder/sources"
xargs --max-procs=2 -n 1 sh -c 'object=$folder/objects/$(echo "$1" | tr / _).o
  [ "$object" -nt "$1" ] && [ -z "$(find antcrew tests -name "*.hpp" -newer "$object" -print -quit)" ] ||
    { aarch64-linux-gnu-g++ $flags -S "$1" -o "$object.s" &&
      sed -i -E "s/^(\tstlr[bh]?\t.*)$/\1\n\tdmb\tish/" "$object.s" &&
      aarch64-linux-gnu-g++ -c "$object.s" -o "$object" && rm "$object.s"; } || { echo "try-arm: $1 does not compile" >&2; exit 255; }' sh <"$folder/sources"
fault=0
for layer in algorithm share crew; do
  aarch64-linux-gnu-g++ -pthread -rdynamic -o "$folder/test_$layer" "$folder"/objects/antcrew_*.o "$folder"/objects/tests_{${layer},support}_*.o \
    -L"$libraries" -Wl,-rpath-link,"$libraries:$folder/root/lib/aarch64-linux-gnu" -lfmt -lhwloc
  echo "== $layer"
  LD_LIBRARY_PATH=$libraries:$folder/root/lib/aarch64-linux-gnu timeout 1800 qemu-aarch64-static -L /usr/aarch64-linux-gnu \
    -E "LD_LIBRARY_PATH=$libraries:$folder/root/lib/aarch64-linux-gnu:/usr/aarch64-linux-gnu/lib" "$folder/test_$layer" \
    "-sfe=*process*,*refused_test*,*steps_test*" || fault=1
done
exit $fault
