#!/usr/bin/env bash
# Measures what the docs claim: the crew's loop, the cost of a phase, cells in a study against alone, the share of a
# study's time that is timed, what a stand costs, the procedure on simulated machines, and the same code against itself.
# Nothing else may run meanwhile; takes about 80 minutes. Usage: measure.sh [PRESET]
set -eu
cd "$(dirname "$0")/.."
bin=build/${1:-release}
scripts/build.sh "${1:-release}" examples/all bench_each bench_phases bench_in_cache bench_same bench_lengths bench_looks test_study test_analysis test_crew planted_losses rewrites
work=$(mktemp -d); trap 'rm -rf "$work"' EXIT
echo "== each against the plain loop"
$bin/bench/bench_each --quiet --no-confirm --rounds 31 --budget 0 --save "$work/each.json" | grep -E '^  (variant|baseline|each)|Best|No variant|Among'
echo "== a phase"
$bin/bench/bench_phases
echo "== 0.1 ms alone and in a study of 40 cells"
$bin/bench/bench_in_cache
share() { /usr/bin/python3 - "$1" "$2" <<'P'
import sys; sys.path.insert(0, "scripts"); import records, statistics
r = records.load(sys.argv[2]); s = records.shares(r); w = s["wall"]
print(f"{sys.argv[1]:<28} wall {w:6.1f} s: timed {s['timed'] / w:.0%}, settling {s['settling'] / w:.0%}, first calls and crews {s['cold'] / w:.0%}; {s['trials']} trials")
P
}
echo "== where the time of studies goes, default options"
for example in tides gauges silt channels catalogue convoy archive coprocessor loggers; do
  rm -f "$work"/s*.json; $bin/examples/$example --quiet --save "$work/s.json" >/dev/null || true
  for record in "$work"/s*.json; do share "$example" "$record"; done
done
$bin/bench/bench_lengths --sizes 11 --quiet --save "$work/short.json" >/dev/null; share "calls of 11 µs" "$work/short.json"
$bin/bench/bench_lengths --sizes 5M --budget 40 --save "$work/long.json" || true; share "calls of 5 s, --budget 40" "$work/long.json"
echo "== a stand: from the end of one visit's timing to the begin of the next one's, but for its first call, crew and settling"
$bin/bench/bench_lengths --sizes 60k --workers 1 --rounds 20 --budget 0 --no-confirm --quiet --save "$work/stands.json" >/dev/null
/usr/bin/python3 - "$work/stands.json" <<'P'
import sys; sys.path.insert(0, "scripts"); import records, statistics
g = records.between_visits(records.load(sys.argv[1]))
print(f"median {statistics.median(g) * 1e3:.2f} ms, of which some 0.4 ms are readings around the first call and two batches")
P
echo "== the whole procedure on simulated machines, all runs"
ANTCREW_ALL_RUNS=1 $bin/tests/test_study -sf="*simulation_test*,*resembling_test*" | grep -E "MESSAGE|ERROR|test cases" | sed 's/.*MESSAGE: //'
echo "== memory over ten million calls of a task crew"
ANTCREW_CALLS=10000000 $bin/tests/test_crew -tc="memory does not grow*" | grep -E "ERROR|values|logged|test cases"

echo "== the same code against itself"
$bin/bench/bench_same 200 1
echo "== samples against a log, the same work"
$bin/bench/bench_looks
echo "== known parameters and crossovers of simulated studies, all of them"
ANTCREW_ALL_RUNS=1 $bin/tests/test_analysis -sf="*models_test*,*sizes_test*" | grep -E "ERROR|values|test cases"
echo "== runs of what has not changed, and of what lost a little, all of them"
ANTCREW_ALL_RUNS=1 $bin/tests/test_analysis -sf="*between_runs_test*" | grep -E "MESSAGE|ERROR|test cases" | sed 's/.*MESSAGE: //'
echo "== programs with planted losses, ten runs: 97 % of them must be found"
for run in $(seq 10); do $bin/tests/planted_losses >"$work/planted-$run" || true; tail -1 "$work/planted-$run"; done
cat "$work"/planted-* | grep -c '^ok' | sed 's/^/found: /'
cat "$work"/planted-* | grep '^FAIL' | cut -c1-200 || true
echo "== rewrites that disappoint, alone and beside two busy loops: what is told first, and what came of acting on it"
$bin/tests/rewrites || true
for k in 1 2; do (while :; do :; done) & done
$bin/tests/rewrites --beside || true
kill $(jobs -p)
