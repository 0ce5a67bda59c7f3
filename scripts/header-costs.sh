#!/usr/bin/env bash
# What each public header costs to read, alone: the least of three CPU times, and lines after the preprocessor; the
# dearest last. Then a study of twenty lines, compiled with -O2. Usage: header-costs.sh [FOLDER OF ANOTHER SOURCE TREE]
# With another tree (of an older commit, say), programs are compiled in pairs, alternating, and the medians of seven
# processor times and the sizes of their code are compared: the study, the same with its headers precompiled, one
# `collect`, `sort` of doubles; and what eight everyday standard headers take.
set -eu
top=$(cd "$(dirname "$0")/.." && pwd)
work=$(mktemp -d); trap 'rm -rf "$work"' EXIT
TIMEFORMAT=%U
cost() { { time g++ -std=c++20 "$@" >/dev/null; } 2>&1; }
read_it() { cost -I"$1" -fsyntax-only -x c++ -include "$1/$2" /dev/null; }
cat >"$work/study.cpp" <<'STUDY'
#include <antcrew/antcrew.hpp>
using namespace antcrew;
static std::vector<double> make(std::size_t n) { return std::vector<double>(n, 1.5); }
static double height(double depth) { return depth * depth + 1; }
static std::vector<double> heights(const std::vector<double>& in) {
  std::vector<double> all;
  for (const double depth : in) all.push_back(height(depth));
  return all;
}
int main(int argc, char** argv) {
  Study tides("Tide heights at every sounding", make, heights, within(1e-9));
  tides.sizes({1'000, 10'000, 100'000});
  tides.variant<ThreadCrew>("split evenly", [](const auto& soundings, auto& crew) {
    return crew.collect(soundings.size(), [&](std::size_t i) { return height(soundings[i]); });
  });
  tides.variant<Workers>("threads by hand", [](const auto& soundings, Workers) { return heights(soundings); });
  return study_main(argc, argv, tides);
}
STUDY
study() { cost -I"$1" -O2 -c -o "$work/study.o" "$work/study.cpp"; }
middle() { sort -n "$work/$1" | sed -n 4p; }
if [ $# -gt 0 ]; then
  there=$1
  cp "$work/study.cpp" "$work/there-study.cpp"
  sed 's/antcrew.hpp/studies.hpp/' "$work/study.cpp" >"$work/here-study.cpp"
  cat >"$work/here-sort.cpp" <<'SORT'
#include <antcrew/algorithm/sort.hpp>
#include <antcrew/crew/thread_crew.hpp>
#include <vector>
void sorted(antcrew::ThreadCrew& crew, std::vector<double>& all) { antcrew::sort(crew, all); }
SORT
  cat >"$work/here-collect.cpp" <<'COLLECT'
#include <antcrew/crew/thread_crew.hpp>
#include <vector>
antcrew::Column<double> doubled(antcrew::ThreadCrew& crew, const std::vector<double>& all) {
  return crew.collect(all.size(), [&](std::size_t i) { return 2 * all[i]; });
}
COLLECT
  printf '#include <%s>\n' algorithm chrono functional map memory string thread vector >"$work/eight.cpp"
  for what in sort collect; do cp "$work/here-$what.cpp" "$work/there-$what.cpp"; done
  # Precompiled, as antcrew_precompile() does it.
  for side in there here; do
    mkdir -p "$work/$side"
    grep -m1 '#include' "$work/$side-study.cpp" >"$work/$side/parsed.hpp"
  done
  g++ -std=c++20 -O2 -I"$there" -x c++-header "$work/there/parsed.hpp" -o "$work/there/parsed.hpp.gch"
  g++ -std=c++20 -O2 -I"$top" -x c++-header "$work/here/parsed.hpp" -o "$work/here/parsed.hpp.gch"
  for k in 1 2 3 4 5 6 7; do
    for what in study sort collect; do
      cost -I"$there" -O2 -c -o "$work/there-$what.o" "$work/there-$what.cpp" >>"$work/$what.there"
      cost -I"$top" -O2 -c -o "$work/here-$what.o" "$work/here-$what.cpp" >>"$work/$what.here"
    done
    cost -I"$there" -O2 -c -o "$work/there-study.o" "$work/there-study.cpp" >>"$work/precompiled.there"
    cost -I"$top" -O2 -include "$work/here/parsed.hpp" -c -o "$work/pre.o" "$work/here-study.cpp" >>"$work/precompiled.here"
    cost -O2 -c -o "$work/eight.o" "$work/eight.cpp" >>"$work/eight.here"
  done
  text() { size "$work/$1.o" | awk 'NR == 2 { print $1 }'; }
  for what in study sort collect precompiled; do
    a=$(middle $what.there); b=$(middle $what.here)
    echo "$what: there $a s, here $b s, ratio $(awk "BEGIN { printf \"%.2f\", $b / $a }")"
  done
  for what in study sort collect; do echo "code of $what: there $(text there-$what), here $(text here-$what) bytes"; done
  echo "eight standard headers: $(middle eight.here) s; one collect takes $(awk "BEGIN { printf \"%.2f\", $(middle collect.here) / $(middle eight.here) }") times that, the study $(awk "BEGIN { printf \"%.2f\", $(middle study.here) / $(middle eight.here) }")"
  exit
fi
cd "$top"
for header in $(find antcrew -name '*.hpp' -not -path '*/internal/*'); do
  lines=$(g++ -std=c++20 -I. -E -x c++ -include "$header" /dev/null | wc -l)
  seconds=$(for k in 1 2 3; do read_it . "$header"; done | sort -n | head -1)
  printf '%s s %7s lines  %s\n' "$seconds" "$lines" "$header"
done | sort -n
echo "$(study "$top") s  a study of 20 lines, -O2"
