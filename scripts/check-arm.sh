#!/usr/bin/env bash
# Whether the layers of the core that know of processors compile for 64-bit ARM, without a warning; nothing is kept,
# nothing is run. Libraries' headers are taken from this machine's own: those used here do not depend on the processor.
# Several sources go into one call: a third of the time.
set -eu
cd "$(dirname "$0")/.."
export flags="-std=c++20 -O0 -I. -Wall -Wextra -Wpedantic -Wconversion -Werror -Wno-restrict -Wno-psabi -idirafter /usr/include \
  -idirafter /usr/include/$(g++ -print-multiarch) \
  -DANTCREW_VERSION=\"0\""
core=(base machine log crew algorithm share)
find "${core[@]/#/antcrew/}" -name '*.cpp' | sort | xargs --max-procs=2 -n 12 sh -c \
  'for source; do echo "#include \"$source\""; done | aarch64-linux-gnu-g++ $flags -x c++ -c - -o /dev/null ||
     { echo "one of these does not compile for 64-bit ARM: $*"; exit 1; }' sh
