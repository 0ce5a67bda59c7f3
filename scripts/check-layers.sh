#!/usr/bin/env bash
# An include may go to its own layer or an earlier one, never to a later one, and into no other layer's internal/; likewise
# the namespaces that it names. Prints
# what goes the wrong way; exit 1.
# Usage: check-layers.sh [FOLDER WITH antcrew/]
set -eu
top=${1:-$(cd "$(dirname "$0")/.." && pwd)}
layers="base machine log crew algorithm share record analysis study ranks sweep report store cli"
place() { local n=0 layer; for layer in $layers; do n=$((n + 1)); [ "$layer" = "$1" ] && { echo $n; return; }; done; echo 0; }

wrong=0
while IFS=: read -r file line text; do
  from=${file#"$top"/antcrew/}
  [ "$from" != "${from#*/}" ] || continue   # antcrew.hpp takes in everything
  from=${from%%/*}
  to=$(sed -E 's@.*"antcrew/([^/"]+)/.*@\1@' <<<"$text")
  if [ "$(place "$from")" = 0 ] || [ "$(place "$to")" = 0 ]; then
    echo "$file:$line: '$from' or '$to' is not a layer"; wrong=1
  elif [ "$(place "$to")" -gt "$(place "$from")" ]; then
    echo "$file:$line: $from may not include $to, a later layer"; wrong=1
  elif [ "$from" != "$to" ] && [[ $text == */internal/* ]]; then
    echo "$file:$line: $from may not include what is internal to $to"; wrong=1
  fi
done < <(grep -rnE '#include "antcrew/[^"]+/' "$top/antcrew" --include='*.hpp' --include='*.cpp')

# A layer may name its own namespace or an earlier one. Those without one, such as crew, name what machine has.
named="base machine record analysis study sweep report store cli"
for layer in $layers; do
  [ -d "$top/antcrew/$layer" ] || continue
  for other in $named; do
    [ "$(place "$other")" -gt "$(place "$layer")" ] || continue
    if grep -rnE "\b${other}_layer\b" "$top/antcrew/$layer"; then
      echo "$layer may not name the namespace of $other, a later layer"; wrong=1
    fi
  done
done

# The core talks to no person: no printing and no option parsing before report.
for layer in base machine log crew algorithm share record analysis study; do
  [ -d "$top/antcrew/$layer" ] || continue
  if grep -rnE '#include <(CLI/|iostream|fmt/color)|std::(cout|cerr|f?printf|f?puts)|fmt::print' "$top/antcrew/$layer" |
    grep -vE '^[^:]*:[0-9]+: *//'; then
    echo "the core may not print or parse options"; wrong=1
  fi
done
exit $wrong
