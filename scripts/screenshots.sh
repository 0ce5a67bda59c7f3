#!/usr/bin/env bash
# Takes the pictures in docs/screenshots from the demo data, in a real terminal on a virtual display.
# Usage: screenshots.sh [NAME …]   (default: all)
set -eu
cd "$(dirname "$0")/.."
bin=$PWD/build/release
work=$(mktemp -d); trap 'rm -rf "$work"' EXIT
export ANTCREW_STORE=$work/store  # nobody's own history

# shot NAME COLUMNS LINES COMMAND: what a user sees after typing it.
shot() {
  local name=$1 columns=$2 lines=$3 command=$4
  printf 'cd %q; printf "$ %s\\n"; %s; touch done; sleep 100\n' "$work" "${shown:-${command//$bin\/*\//}}" "$command" >"$work/session"
  rm -f "$work/done"
  xvfb-run -a -s '-screen 0 1400x1900x24' bash -c '
    xterm -fa "DejaVu Sans Mono" -fs 10 -geometry '"${columns}x${lines}"'+0+0 -bg "#10151c" -fg "#dde3ea" -b 12 -bw 0 +sb -e bash '"$work"'/session &
    for _ in $(seq 2000); do [ -e '"$work"'/done ] && break; sleep 0.1; done
    sleep 0.5
    import -window root -crop "$(xwininfo -root -tree | grep -m1 "\"bash\|xterm" | grep -oE "[0-9]+x[0-9]+\+[0-9]+\+[0-9]+" | head -1)" +repage '"$work"'/shot.png
    kill %1' >/dev/null 2>&1 || true
  mv "$work/shot.png" "docs/screenshots/$name.png"
  echo "docs/screenshots/$name.png"
}

wanted() { [ $# -eq 1 ] || { local name=$1 pick; shift; for pick; do [ "$pick" = "$name" ] && return 0; done; return 1; }; }
wanted demo "$@" && shot demo 80 28 "$bin/command/antcrew demo"
wanted list "$@" && shown="antcrew list" shot list 100 18 "( $bin/examples/tides --quick --sizes 10k; $bin/examples/catalogue --quick --study 1; $bin/command/antcrew mark last --name 'Readings by tag, as released' --label reference --note 'before the map was split'; $bin/examples/loggers --quick --workers 1,4,16 ) >/dev/null 2>&1; clear; $bin/command/antcrew list"
wanted machine "$@" && shot machine 100 20 "$bin/command/antcrew machine"
wanted details "$@" && shot details 100 21 "$bin/examples/channels --quick --sizes 60 --workers 1,2 --save channels.json >/dev/null 2>&1; clear; $bin/command/antcrew show channels.json --details 'tasks down to 10 forks'"
wanted explain "$@" && shot explain 110 70 "$bin/examples/gauges --sizes 200 --workers 2 --budget 40 --save gauges.json >/dev/null 2>&1; clear; $bin/command/antcrew explain gauges.json"
wanted sweep "$@" && shown="antcrew sweep python.toml" shot sweep 100 30 "cd $PWD/examples/estuary/commands && $bin/command/antcrew sweep python.toml --workers 1,2 --budget 40 --quiet --save $work/python.json; cd $work"
wanted archive "$@" && shot archive 100 30 "$bin/examples/archive --sizes 2k --workers 2 --budget 120"
export OMPI_ALLOW_RUN_AS_ROOT=1 OMPI_ALLOW_RUN_AS_ROOT_CONFIRM=1  # in a container
wanted ranks "$@" && shot ranks 100 30 "$bin/examples/everywhere --study 'Gauges everywhere' --workers 1,2 --budget 45"

# Pages and figures, of the same records each time: made here, since no record is kept in the tree.
drawn=(page page-dark page-narrow history figure-speedup figure-ledger figure-time figure-timeline figure-messages figure-compare running)
any=0; for name in "${drawn[@]}"; do wanted "$name" "$@" && any=1; done
[ "$any" = 1 ] || exit 0
antcrew=$bin/command/antcrew
record() { local name=$1; shift; [ -e "$work/$name.json" ] || "$@" --save "$work/$name.json" --quiet >/dev/null 2>&1 || true; }
wanted figure-time "$@" && record tides "$bin/examples/tides" --budget 40
record loggers "$bin/examples/loggers" --workers 1,2,4,8,16,32 --rounds 7 --budget 0 --dimension delay_ms=10
record gauges "$bin/examples/gauges" --sizes 200 --workers 1,2 --budget 40
"$antcrew" show "$work/loggers.json" --as page --to "$work/page.html" --anonymize
page() { python3 tests/browser/picture.py "$work/${5:-page}.html" "docs/screenshots/$1.png" "$2" "$3" "$4"; echo "docs/screenshots/$1.png"; }
if wanted history "$@"; then
  for run in 1 2 3 4 5 6 7; do
    "$bin/examples/tides" --sizes 10k --workers 1,2 --quick --quiet --store "$work/runs" --save "$work/run-$run.json" >/dev/null 2>&1 || true
  done
  "$antcrew" list --store "$work/runs" --as page --to "$work/history.html"
  page history 1280 800 light history
fi
wanted page "$@" && page page 1280 800 light
wanted page-dark "$@" && page page-dark 1280 800 dark
wanted page-narrow "$@" && page page-narrow 390 1200 light
wanted figure-messages "$@" && record silt "$bin/examples/everywhere" --study "Silt everywhere" --workers 3 --rounds 3 --budget 0 --no-confirm --variant "by the ranks"
figure() { "$antcrew" show "$work/$2.json" --as "figure:$3" --to "docs/screenshots/$1.png"; echo "docs/screenshots/$1.png"; }
wanted figure-speedup "$@" && figure figure-speedup loggers speedup
wanted figure-ledger "$@" && figure figure-ledger gauges ledger
wanted figure-time "$@" && figure figure-time tides time
wanted figure-timeline "$@" && figure figure-timeline gauges timeline
wanted figure-messages "$@" && figure figure-messages silt messages
if wanted figure-compare "$@"; then
  for width in 0 10; do
    "$bin/examples/loggers" --workers 1,2,4,8,16 --rounds 6 --budget 0 --no-confirm --instrument none --variant "connected anew each time" --variant "a process each" --dimension delay_ms=$((width + 5)) --save "$work/delay-$width.json" --quiet >/dev/null 2>&1 || true
  done
  "$antcrew" compare "$work/delay-0.json" "$work/delay-10.json" --as figure --to docs/screenshots/figure-compare.png
  echo docs/screenshots/figure-compare.png
fi
# Half way through.
wanted running "$@" && shown="tides --budget 30" shot running 100 16 "(sleep 14; touch done) & $bin/examples/tides --budget 30 --save running.json"
exit 0
