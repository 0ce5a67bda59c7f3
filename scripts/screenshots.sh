#!/usr/bin/env bash
# Takes the pictures in docs/screenshots from the demo data, in a real terminal on a virtual display.
# Usage: screenshots.sh [NAME …]   (default: all)
set -eu
cd "$(dirname "$0")/.."
bin=$PWD/build/release
work=$(mktemp -d); trap 'rm -rf "$work"' EXIT

# shot NAME COLUMNS LINES COMMAND: what a user sees after typing it.
shot() {
  local name=$1 columns=$2 lines=$3 command=$4
  printf 'cd %q; printf "$ %s\\n"; %s; touch done; sleep 100\n' "$work" "${command//$bin\/*\//}" "$command" >"$work/session"
  rm -f "$work/done"
  xvfb-run -a -s '-screen 0 1400x1300x24' bash -c '
    xterm -fa "DejaVu Sans Mono" -fs 10 -geometry '"${columns}x${lines}"'+0+0 -bg "#10151c" -fg "#dde3ea" -b 12 -bw 0 +sb -e bash '"$work"'/session &
    for _ in $(seq 2000); do [ -e '"$work"'/done ] && break; sleep 0.1; done
    sleep 0.5
    import -window root -crop "$(xwininfo -root -tree | grep -m1 "\"bash\|xterm" | grep -oE "[0-9]+x[0-9]+\+[0-9]+\+[0-9]+" | head -1)" +repage '"$work"'/shot.png
    kill %1' >/dev/null 2>&1 || true
  mv "$work/shot.png" "docs/screenshots/$name.png"
  echo "docs/screenshots/$name.png"
}

wanted() { [ $# -eq 1 ] || { local name=$1 pick; shift; for pick; do [ "$pick" = "$name" ] && return 0; done; return 1; }; }
wanted demo "$@" && shot demo 100 80 "$bin/command/antcrew demo"
wanted machine "$@" && shot machine 100 20 "$bin/command/antcrew machine"
wanted details "$@" && shot details 100 21 "$bin/examples/channels --quick --sizes 60 --workers 1,2 --save channels.json >/dev/null 2>&1; clear; $bin/command/antcrew show channels.json --details 'tasks down to 10 forks'"
wanted explain "$@" && shot explain 110 58 "$bin/examples/gauges --sizes 200 --workers 1,2 --budget 40 --save gauges.json >/dev/null 2>&1; clear; $bin/command/antcrew explain gauges.json"
wanted archive "$@" && shot archive 140 49 "$bin/examples/archive --sizes 2k --workers 2 --budget 120"
exit 0
