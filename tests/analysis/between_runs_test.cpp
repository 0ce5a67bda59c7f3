// Runs of what has not changed: how often a comparison or a guard says otherwise, and what of a true loss they catch.
// At a tenth of the runs here; scripts/measure.sh makes all of them (ANTCREW_ALL_RUNS=1).
#include <doctest/doctest.h>

#include <cmath>
#include <cstdlib>
#include <memory>
#include <random>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/guard.hpp"
#include "antcrew/analysis/internal/between_runs.hpp"
#include "support/records.hpp"
#include "support/shared_out.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using doctest::Approx;

namespace {

struct Wander {
  const char* name = "";
  double of_run = 0.014;       // of a cell from run to run
  double noisy_cell = 1;       // times that, of the first one
  double of_baseline = 0;      // that all cells of a run share
  double of_rounds = 0.02;     // within a run
  double of_machine = 0.05;    // its speed, which the yardstick sees as well
  double gain = 1;             // of the first cell's speedup, in the runs after
  double faster_baseline = 1;  // times, in the runs after; all cells become as much faster
};

Record run_of(int cells, const Wander& w, bool after, std::mt19937_64& random) {
  std::normal_distribution<double> normal;
  const double machine = std::exp(w.of_machine * normal(random));
  const double faster = after ? w.faster_baseline : 1;
  const auto times = [&](double mean, double spread) {
    std::vector<double> all;
    for (int round = 0; round < 11; ++round) all.push_back(mean * machine / faster * std::exp(spread * normal(random)));
    return all;
  };
  std::vector<Cell> all{
      test::cell_with("baseline", 1, times(2 * std::exp(w.of_baseline * normal(random)), w.of_rounds))};
  for (int k = 0; k < cells; ++k) {
    const double noisier = k == 0 ? w.noisy_cell : 1;
    const double gain = k == 0 && after ? w.gain : 1;
    all.push_back(test::cell_with("v" + std::to_string(k), 1,
                                  times(std::exp(noisier * w.of_run * normal(random)) / gain, noisier * w.of_rounds)));
  }
  Record record = test::record_of(std::move(all));
  record.yardstick.edition = 1;
  for (int k = 0; k < 11; ++k)
    record.yardstick.arithmetic_s.push_back(25e-6 * machine * std::exp(0.01 * normal(random)));
  record.yardstick.stream_s = {2e-3 * machine, 2e-3 * machine, 2e-3 * machine};
  return record;
}

struct Side {
  std::vector<std::unique_ptr<Record>> records;
  std::vector<std::unique_ptr<Analysed>> studies;
  std::vector<const Analysed*> all() const {
    std::vector<const Analysed*> pointers;
    for (const auto& study : studies) pointers.push_back(study.get());
    return pointers;
  }
};
Side side_of(int runs, int cells, const Wander& w, bool after, std::mt19937_64& random) {
  Side side;
  for (int k = 0; k < runs; ++k) {
    side.records.push_back(std::make_unique<Record>(run_of(cells, w, after, random)));
    side.studies.push_back(std::make_unique<Analysed>(analyse(*side.records.back())));
  }
  return side;
}

struct Outcomes {
  int changed = 0;     // compare() calls any cell better or worse
  int failed = 0;      // guard() does
  int open = 0;        // guard() cannot tell
  int first_told = 0;  // the guard fails for the first cell
  int same_first = 0;  // compare() calls the first cell the same
};

bool all_goes() {
  return std::getenv("ANTCREW_ALL_RUNS") != nullptr;
}
#if defined(ANTCREW_SANITIZED)
constexpr int few_goes = 4;
#else
constexpr int few_goes = 100;
#endif

// A case has a limit of time.
int goes_of(int cells) {
  return !all_goes() ? few_goes : cells < 40 ? 1000 : 200;
}

Outcomes outcomes_of(int before, int after, int cells, const Wander& w) {
  const int goes = goes_of(cells);
  struct One {
    bool changed = false, failed = false, open = false, first = false, same = false;
  };
  const auto one_of = [&](std::size_t k) {
    std::mt19937_64 random(k * 104729 + 7);
    const Side old = side_of(before, cells, w, false, random);
    const Side now = side_of(after, cells, w, true, random);
    const Comparison found = compare(old.all(), now.all());
    const Comparison guarded = compare(old.all(), now.all(), guard_false_alarms);
    Requirements required;
    required.not_worse = true;
    const auto runs = now.all();
    const auto checks = guard(runs, required, &guarded);
    One one;
    for (const ComparedCell& cell : found.cells)
      one.changed = one.changed || (cell.change != Change::same && cell.change != Change::cannot_tell);
    for (const ComparedBaseline& baseline : found.baselines) one.changed = one.changed || baseline.moved;
    one.failed = any(checks, Outcome::failed);
    one.open = !one.failed && any(checks, Outcome::cannot_tell);
    one.first = checks.front().outcome == Outcome::failed;
    one.same = found.cells.front().change == Change::same;
    return one;
  };
  Outcomes all;
  for (const One& one : test::shared_out(static_cast<std::size_t>(goes), one_of)) {
    all.changed += one.changed;
    all.failed += one.failed;
    all.open += one.open;
    all.first_told += one.first;
    all.same_first += one.same;
  }
  return all;
}

// Of so few, what chance alone may add.
int allowed(double share, int goes) {
  return static_cast<int>(share * goes + (all_goes() ? 1.7 : 2.6) * std::sqrt(share * goes) + 0.5);
}

}  // namespace

TEST_CASE("what has not changed is rarely called changed, with few runs and with many") {
  Wander equal{"equal spreads"};
  Wander noisy{"one noisy cell"};
  noisy.noisy_cell = 4;
  Wander lucky{"baseline luck 3 %"};
  lucky.of_baseline = 0.03;
  for (const auto& [before, after] : {std::pair{1, 1}, {20, 1}, {5, 5}, {5, 1}}) {
    for (const Wander& w : {equal, noisy, lucky}) {
      for (const int cells : {1, 5, 40}) {
        if (cells == 40 && before == 20 && !all_goes() && w.noisy_cell == 1 && w.of_baseline == 0) continue;
        const Outcomes found = outcomes_of(before, after, cells, w);
        const int goes = goes_of(cells);
        MESSAGE(after, " against ", before, ", ", cells, " cells, ", std::string(w.name), ": of ", goes, " changed ",
                found.changed, ", guard fails ", found.failed, ", cannot tell ", found.open);
        CHECK(found.changed <= allowed(0.05, goes));
        // Five runs tell a noisy cell from the others now and then too late.
        CHECK(found.failed <= allowed(before == 5 && after == 1 ? 0.015 : 0.01, goes));
        if (before == 5 && w.noisy_cell == 1 && w.of_baseline == 0)
          CHECK(found.open + found.failed <= allowed(0.05, goes));
      }
    }
  }
}

TEST_CASE("a loss of 6 % is caught by one run against twenty; one of 10 % is never the same") {
  for (const auto& [cells, spread] : {std::pair{1, 0.012}, {40, 0.0085}}) {
    if (cells == 40 && few_goes < 50) continue;
    Wander w;
    w.of_run = spread;
    w.of_rounds = spread;
    w.gain = 0.94;
    const int goes = goes_of(cells);
    const Outcomes found = outcomes_of(20, 1, cells, w);
    MESSAGE(cells, " cells, of runs that spread by ", 1.15 * spread, ": a loss of 6 % fails in ", found.first_told,
            " of ", goes);
    if (few_goes > 50) CHECK(found.first_told >= goes * 85 / 100);
  }
  Wander w;
  w.gain = 0.9;
  for (const auto& [before, after] : {std::pair{1, 1}, {5, 5}}) {
    const Outcomes found = outcomes_of(before, after, 5, w);
    MESSAGE(after, " against ", before, ": a loss of 10 % fails in ", found.first_told, ", is the same in ",
            found.same_first);
    CHECK(found.same_first <= allowed(0.005, goes_of(5)));
  }
}

TEST_CASE("one run against one fails no loss under 10 %") {
  Wander w;
  w.of_run = w.of_rounds = 0.0005;
  w.gain = 0.91;
  CHECK(outcomes_of(1, 1, 1, w).failed == 0);
  w.gain = 0.7;
  CHECK(outcomes_of(1, 1, 1, w).failed == (all_goes() ? 1000 : few_goes));
}

TEST_CASE("a kernel that got faster in the baseline, too, is no loss; one that slowed down everything is told") {
  std::mt19937_64 random(3);
  Wander kernel;
  kernel.faster_baseline = 2;
  kernel.gain = 1.67 / 2;
  const Side old = side_of(5, 2, kernel, false, random);
  const Side now = side_of(5, 2, kernel, true, random);
  const Comparison found = compare(old.all(), now.all());
  CHECK(found.cells[0].change == Change::better_in_time);
  CHECK(found.cells[0].time->median == Approx(1.67).epsilon(0.05));
  CHECK(found.cells[1].change != Change::worse);
  REQUIRE(found.baselines.size() == 1);
  CHECK(found.baselines.front().moved);
  CHECK(found.baselines.front().time.median == Approx(2).epsilon(0.05));
  Requirements required;
  required.not_worse = true;
  CHECK_FALSE(any(guard(now.all(), required, &found), Outcome::failed));

  Wander slower;
  slower.faster_baseline = 0.5;
  const Side before = side_of(5, 2, slower, false, random);
  const Side after = side_of(5, 2, slower, true, random);
  const Comparison slowed = compare(before.all(), after.all());
  CHECK(slowed.cells[0].change == Change::worse_in_time);
  CHECK(slowed.baselines.front().moved);

  // A slower machine is no slower program.
  Wander other;
  other.of_machine = 0.4;
  CHECK(outcomes_of(5, 5, 2, other).changed <= allowed(0.05, all_goes() ? 1000 : few_goes));
}

TEST_CASE("a noisy cell has a spread of its own; what cells share counts once a run") {
  std::mt19937_64 random(9);
  std::normal_distribution<double> normal;
  std::vector<internal::CellRuns> cells(20);
  for (int run = 0; run < 10; ++run) {
    const double shared = 0.03 * normal(random);
    for (std::size_t k = 0; k < cells.size(); ++k)
      cells[k].before.emplace_back(shared + (k == 4 ? 0.2 : 0.005) * normal(random));
  }
  for (auto& cell : cells) cell.after = {0.1};
  const auto spreads = internal::spreads_of(cells);
  CHECK(std::sqrt(spreads[4].variance) > 0.1);
  CHECK(std::sqrt(spreads[0].variance) == Approx(0.03).epsilon(0.5));
  CHECK(spreads[0].freedom < 15);  // not 19 × 9
  CHECK(spreads[4].freedom == Approx(9));
  cells.resize(1);
  cells[0].before.resize(3);
  CHECK_FALSE(internal::spreads_of(cells)[0].measured());
}
