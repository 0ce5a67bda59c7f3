#!/usr/bin/env bash
# Measures what the docs claim: the crew's loop, the cost of a phase, cells in a study against alone, the share of a
# study's time that is neither timed nor settling, and the same code against itself. Nothing else may run meanwhile.
# Usage: measure.sh [PRESET]
set -eu
cd "$(dirname "$0")/.."
bin=build/${1:-release}
scripts/build.sh "${1:-release}" tides bench_each bench_phases bench_in_cache bench_same
work=$(mktemp -d); trap 'rm -rf "$work"' EXIT
echo "== each against the plain loop"
$bin/bench/bench_each --quiet --rounds 31 --budget 0 --save "$work/each.json" | grep -E '^  (variant|baseline|each)|Best|No variant|Among'
echo "== a phase"
$bin/bench/bench_phases
echo "== 0.1 ms alone and in a study of 40 cells"
$bin/bench/bench_in_cache
echo "== where the time of the tides study went"
$bin/examples/tides --quiet --budget 30 --save "$work/tides.json" >/dev/null
/usr/bin/python3 - "$work/tides.json" <<'P'
import json, sys
r = json.load(open(sys.argv[1]))
t = [t for c in r["cells"] for t in c["trials"]]
timed = sum(x["wall_s"] * x["calls"] for x in t)
settling = sum(x["settling_s"] for x in t)
cold = sum(sum(c["cold_s"]) + sum(c["startup_s"]) for c in r["cells"])
rest = 1 - (timed + settling) / r["measured_s"]
print(f"wall {r['measured_s']:.1f} s: timed {timed:.1f} s, first calls of stands and start-up of crews (timed too) {cold:.1f} s, settling {settling:.1f} s; the rest {100 * (rest - cold / r['measured_s']):.1f} %, {100 * rest:.1f} % with first calls counted as rest")
P
echo "== the same code against itself"
$bin/bench/bench_same 200 1
