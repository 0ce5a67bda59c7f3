#!/usr/bin/env bash
# Kills a run with SIGKILL at random moments (its coordinator, the process of a block, or a stand) and shows what the record still
# held, that it can be gone on with, and that no process and no file is left behind.
# Usage: kill-and-resume.sh [TIMES=20]
set -u
cd "$(dirname "$0")/.."
tides=$PWD/build/release/examples/tides
times=${1:-20}
work=$(mktemp -d); trap 'rm -rf "$work"' EXIT
args=(--sizes 20k,60k --rounds 8 --workers 1,2 --quiet)
of_run() { pgrep -f "$work/r.json"; }
rounds() { /usr/bin/python3 - "$1" <<'P'
import sys; sys.path.insert(0, "scripts"); import records
r = records.load(sys.argv[1])
print("+".join(str(len(c["trials"])) for c in r["cells"] if c["kind"] != "baseline" and c["workers"] == 2 and c["variant"] == "split evenly"), r["complete"])
P
}
bad=0
printf '%-4s %-12s %-9s %-28s %-26s %s\n' no killed after "held (visits of both sizes)" "after --resume" "left behind"
for n in $(seq "$times"); do
  rm -f "$work"/*
  "$tides" "${args[@]}" --save "$work/r.json" >/dev/null 2>&1 &
  run=$!
  after=0.$(printf '%02d' $((RANDOM % 100))); [ $((RANDOM % 3)) -gt 0 ] && after=$((RANDOM % 3)).$((RANDOM % 90 + 10))
  sleep "$after"
  victim=coordinator; pid=$run
  block=$(pgrep -P "$run" | head -1)
  if [ $((n % 4)) -eq 0 ]; then victim=stand; pid=$(pgrep -P "${block:-0}" | shuf -n 1); fi
  if [ $((n % 10)) -eq 5 ]; then victim=block; pid=$block; fi
  kill -9 ${pid:-$run} 2>/dev/null
  [ "$victim" = coordinator ] && { wait $run 2>/dev/null; } || { wait $run; }
  for _ in $(seq 100); do of_run >/dev/null || break; sleep 0.05; done
  left="$(of_run | wc -l) processes, $(ls -A "$work" | grep -vcE '^r.json(.rounds)?$') files"
  held="nothing yet"; resumed="begun anew"
  if [ -s "$work/r.json" ]; then
    held=$(rounds "$work/r.json") || bad=1
    "$tides" "${args[@]}" --resume "$work/r.json" >/dev/null 2>"$work/err"; code=$?
    case $code in 0 | 1 | 4) resumed=$(rounds "$work/r.json") ;; *) resumed="failed: $(cat "$work/err")"; bad=1 ;; esac
    [ -e "$work/r.json.rounds" ] && { resumed="$resumed, lines left"; bad=1; }
    rm -f "$work/err"
  fi
  case $left in "0 processes, 0 files") ;; *) bad=1 ;; esac
  printf '%-4s %-12s %-9s %-28s %-26s %s\n' "$n" "$victim" "${after} s" "$held" "$resumed" "$left"
done
exit $bad
