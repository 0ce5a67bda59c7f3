#!/usr/bin/env bash
# Measures the crews' building blocks and prints what was asked of each beside what came out. Nothing else may run
# meanwhile. The records are kept in bench-records/. Usage: bench.sh [PRESET [ONLY...]], ONLY being names of bench/*.cpp.
set -eu
cd "$(dirname "$0")/.."
preset=${1:-release}; shift || true
bin=$PWD/build/$preset
chosen=${*:-regions recursion handout each triad sorting algorithms keys graph processes blocks stream waiting resting}
scripts/build.sh "$preset" antcrew_command $(printf 'bench_%s ' $chosen)
kept=bench-records/$(date -u +%Y%m%d-%H%M%S)-$preset
mkdir -p "$kept"
steal() { awk '/^cpu /{print $9}' /proc/stat; }
before=$(steal)
# 1 says that no variant beats its baseline, which is a result like any other here.
measure() { local name=$1; shift; "$bin/bench/bench_$name" "$@" >/dev/null || [[ $? =~ ^[14]$ ]]; }
for name in $chosen; do
  echo "measuring: $name" >&2
  case $name in
    resting) "$bin/bench/bench_resting" >"$kept/resting.txt" ;;
    ranks)
      export OMPI_ALLOW_RUN_AS_ROOT=1 OMPI_ALLOW_RUN_AS_ROOT_CONFIRM=1 OMPI_MCA_rmaps_base_oversubscribe=1
      for count in 2 4; do mpirun -n $count "$bin/bench/bench_ranks" >>"$kept/ranks.txt"; done ;;
    regions) (cd "$kept" && measure regions --quiet --no-confirm --rounds 13 --budget 0) ;;
    sorting | algorithms | triad | keys | processes | blocks | stream | waiting) (cd "$kept" && measure "$name" --quiet --no-confirm --rounds 7 --budget 0) ;;
    *) (cd "$kept" && measure "$name" --quiet --no-confirm --rounds 21 --budget 0) ;;
  esac
done
taken=$(( $(steal) - before ))
for record in "$kept"/antcrew-records/*.json; do
  [ -e "$record" ] || continue
  "$bin/command/antcrew" show "$record" --as json >"${record%.json}.derived"
done
/usr/bin/python3 scripts/bench_table.py "$kept" "$preset" "$taken"
