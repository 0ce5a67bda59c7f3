#!/usr/bin/env bash
# What each public header costs to read, alone: the least of three CPU times, and lines after the preprocessor; the
# dearest last. Then a study of twenty lines, compiled with -O2. Usage: header-costs.sh [FOLDER OF ANOTHER SOURCE TREE]
# With another tree (of an older commit, say), antcrew.hpp and the study are measured in pairs, alternating.
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
middle() { sort -n "$work/$1" | sed -n 3p; }
if [ $# -gt 0 ]; then
  for k in 1 2 3 4 5; do
    read_it "$1" antcrew/antcrew.hpp >>"$work/header.there"; read_it "$top" antcrew/antcrew.hpp >>"$work/header.here"
    study "$1" >>"$work/study.there"; study "$top" >>"$work/study.here"
  done
  for what in header study; do
    a=$(middle $what.there); b=$(middle $what.here)
    echo "$what: there $a s, here $b s, $(awk "BEGIN { printf \"%.0f\", 100 * $b / $a }") %"
  done
  exit
fi
cd "$top"
for header in $(find antcrew -name '*.hpp' -not -path '*/internal/*'); do
  lines=$(g++ -std=c++20 -I. -E -x c++ -include "$header" /dev/null | wc -l)
  seconds=$(for k in 1 2 3; do read_it . "$header"; done | sort -n | head -1)
  printf '%s s %7s lines  %s\n' "$seconds" "$lines" "$header"
done | sort -n
echo "$(study "$top") s  a study of 20 lines, -O2"
