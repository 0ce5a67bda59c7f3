// A rewrite that disappoints beside what it becomes once the first finding is acted on, and what is told of it.
#pragma once

#include <algorithm>
#include <cmath>
#include <numeric>
#include <thread>
#include <vector>
#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/antcrew.hpp"

namespace rewritten {

using namespace antcrew;
using namespace antcrew::layers;
using Series = std::vector<double>;

inline Series make(const StudyPoint& at) {
  Series all(at.size);
  for (std::size_t i = 0; i < all.size(); ++i) all[i] = static_cast<double>(i % 977) + 0.5;
  return all;
}

inline double steps(double x, std::size_t n) {
  for (std::size_t k = 0; k < n; ++k) x = x * 0.999 + std::sqrt(x + static_cast<double>(k));
  return x;
}
inline double heavy(double x) {
  return steps(x, 40);
}
inline double heavy_sum(const Series& in) {
  double sum = 0;
  for (const double x : in) sum += heavy(x);
  return sum;
}
inline double square_sum(const Series& in) {
  double sum = 0;
  for (const double x : in) sum += x * x;
  return sum;
}
inline double skewed(const Series& in, std::size_t i) {
  return steps(in[i], 1 + 80 * i / in.size());
}

template <class Part>
void by_threads(int workers, Part part) {
  std::vector<std::jthread> threads;
  for (int k = 0; k < workers; ++k) threads.emplace_back([&part, k] { part(k); });
}
// The part of worker k of so many.
inline Range part_of(std::size_t n, int k, int workers) {
  const auto at = [&](int of) { return n * static_cast<std::size_t>(of) / static_cast<std::size_t>(workers); };
  return {at(k), at(k + 1)};
}

using Table = std::map<long, double>;
inline long key(double x, std::size_t i) {
  return static_cast<long>(x * 31) % 1009 + static_cast<long>(i * 7919 % 60013);
}
inline double weighed(const Table& table) {
  double sum = 0;
  for (const auto& [k, x] : table) sum += static_cast<double>(k) * x;
  return sum;
}

inline long leaves(int n) {
  return n < 2 ? 1 : leaves(n - 1) + leaves(n - 2);
}
inline long leaves_by_tasks(TaskCrew& crew, int n, int sequential_below) {
  if (n < sequential_below) return leaves(n);
  const auto [a, b] = crew.both([&] { return leaves_by_tasks(crew, n - 1, sequential_below); },
                                [&] { return leaves_by_tasks(crew, n - 2, sequential_below); });
  return a + b;
}

struct Told {
  std::string first;
  double share = 0;
  double speedup = 0;
  double promised = 0;
  double mended = 0;
  double mended_low = 0;
  std::string or_else;
  std::string withheld;
};

// The first loss of the variant "first" at the largest worker count, and what "mended" reached there.
inline Told told_of(const Record& record) {
  const Analysed study = analyse(record);
  Told told;
  for (const CellFigures& cell : study.cells) {
    if (cell.cell->workers != 2 || !cell.speedup) continue;
    if (cell.cell->variant == "mended") {
      told.mended = cell.speedup->median;
      told.mended_low = cell.speedup->claimed ? cell.speedup->low : cell.speedup->median;
    }
    if (cell.cell->variant != "first") continue;
    told.speedup = cell.speedup->median;
    told.withheld = withheld_because(study, cell);
    for (const Finding& finding : findings_of(study, cell)) {
      if (finding.kind != Finding::Kind::loss) continue;
      told.first = finding.id;
      told.or_else = finding.or_else;
      told.share = finding.share;
      told.promised = finding.gain_speedup.value_or(0);
      break;
    }
  }
  return told;
}

inline double budget_s = 12;

template <class Baseline, class First, class Mended>
Told tried(std::size_t size, Baseline baseline, First first, Mended mended) {
  Study study("Rewritten", make, baseline, within(1e-9));
  study.sizes({size});
  first(study);
  mended(study);
  Plan plan;
  plan.workers = {1, 2};
  plan.budget_s = budget_s;
  return told_of(run(study, plan));
}

template <class Crew, class Body>
auto as(const char* name, Body body) {
  return [name, body](auto& study) { study.template variant<Crew>(name, body); };
}

}  // namespace rewritten
