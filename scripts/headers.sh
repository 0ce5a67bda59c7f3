#!/usr/bin/env bash
# A page for every public header, made from its own comments, in build/headers; fails on any warning, and when a header
# has no page. Usage: headers.sh
set -eu
cd "$(dirname "$0")/.."
rm -rf build/headers; mkdir -p build/headers
doxygen docs/headers.doxy
missing=0
while read -r header; do
  page=$(find build/headers -name "*$(basename "$header" .hpp | sed "s/_/__/g")_8hpp.html" | grep -E "/($(basename "$(dirname "$header")")_2)?$(basename "$header" .hpp | sed "s/_/__/g")_8hpp.html$" | tail -1)
  [ -n "$page" ] || { echo "$header has no page"; missing=1; }
  grep -q "Detailed Description" "${page:-/dev/null}" || { echo "$header: no comment at its top reaches its page"; missing=1; }
done < <(find antcrew -name '*.hpp' -not -path '*/internal/*')
[ $missing = 0 ] && echo "$(find antcrew -name '*.hpp' -not -path '*/internal/*' | wc -l) headers have their pages: build/headers/index.html"
exit $missing
