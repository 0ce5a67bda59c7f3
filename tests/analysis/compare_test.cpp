// Before and after, and guards: known changes, and how often what is alike is called changed.
#include <doctest/doctest.h>

#include <algorithm>
#include <cmath>
#include <memory>
#include <random>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/guard.hpp"
#include "support/records.hpp"
#include "support/shared_out.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using doctest::Approx;

namespace {

// So many variants of one worker, 11 rounds each: speedups of 2, times `factor` for the first one. `spread` is the
// noise of a round, `run` that of a whole run and cell.
Record noisy(int variants, double factor, double spread, double run, std::mt19937_64& random) {
  std::normal_distribution<double> normal;
  const auto times = [&](double mean, double of_run) {
    std::vector<double> all;
    for (int round = 0; round < 11; ++round) all.push_back(mean * of_run * std::exp(spread * normal(random)));
    return all;
  };
  std::vector<Cell> cells{test::cell_with("baseline", 1, times(2, 1))};
  for (int v = 0; v < variants; ++v)
    cells.push_back(
        test::cell_with("v" + std::to_string(v), 1, times(v == 0 ? 1 / factor : 1, std::exp(run * normal(random)))));
  return test::record_of(std::move(cells));
}

struct Runs {
  std::vector<std::unique_ptr<Record>> records;
  std::vector<std::unique_ptr<Analysed>> studies;
  void add(Record record) {
    records.push_back(std::make_unique<Record>(std::move(record)));
    studies.push_back(std::make_unique<Analysed>(analyse(*records.back())));
  }
  std::vector<const Analysed*> all() const {
    std::vector<const Analysed*> pointers;
    for (const auto& study : studies) pointers.push_back(study.get());
    return pointers;
  }
};

Runs runs_of(int count, int variants, double factor, double spread, double run, std::mt19937_64& random) {
  Runs runs;
  for (int k = 0; k < count; ++k) runs.add(noisy(variants, factor, spread, run, random));
  return runs;
}

}  // namespace

TEST_CASE("what changed a lot is told, what did not is the same, with one run of each") {
  std::mt19937_64 random(5);
  const Runs before = runs_of(1, 3, 1, 0.01, 0, random);
  const Runs after = runs_of(1, 3, 0.7, 0.01, 0, random);
  const Comparison found = compare(before.all(), after.all());
  CHECK(found.least_told == Approx(0.1));
  CHECK_FALSE(found.between_runs);
  REQUIRE(found.cells.size() == 3);
  CHECK(found.cells[0].change == Change::worse);
  CHECK(found.cells[0].ratio->median == Approx(0.7).epsilon(0.03));
  CHECK(found.cells[0].ratio->high < 1);
  CHECK(found.cells[1].change == Change::cannot_tell);  // one run of each cannot show that little changed
  CHECK(found.cells[2].change == Change::cannot_tell);
  CHECK(found.differs.empty());
  CHECK(compare(after.all(), before.all()).cells[0].change == Change::better);
}

TEST_CASE("unmatched cells are listed, what differs comes with whether it is fair, a verdict lost is worse") {
  std::mt19937_64 random(5);
  Runs before;
  before.add(noisy(2, 1, 0.01, 0, random));
  Record changed = noisy(3, 1, 0.01, 0, random);
  changed.cells.erase(changed.cells.begin() + 1);
  changed.build.flags = "-O0";
  changed.created = "2026-02-02T03:04:05Z";
  changed.cells[1].faults.push_back({Fault::Kind::wrong_answer, 1, "differs", {}});
  for (Trial& trial : changed.cells[1].trials) trial.agreed = false;
  Runs after;
  after.add(std::move(changed));
  const Comparison found = compare(before.all(), after.all());
  REQUIRE(found.only_before.size() == 1);
  CHECK(found.only_before.front().words.find("v0 (ThreadCrew) with 1 worker") != std::string::npos);
  CHECK(found.only_after.size() == 1);
  REQUIRE(found.differs.size() == 1);
  CHECK(found.differs.front().what == "compiler flags");
  CHECK(found.differs.front().weight == Differing::Weight::elsewhere);
  REQUIRE(found.cells.size() == 1);
  CHECK(found.cells.front().change == Change::worse);
  CHECK(found.cells.front().why == "it is \"wrong answer\" now");
}

TEST_CASE("deviations of a normal distribution") {
  CHECK(deviations_for(0.95) == Approx(1.95996).epsilon(1e-4));
  CHECK(deviations_for(0.99) == Approx(2.57583).epsilon(1e-4));
}

TEST_CASE("a guard over 40 unchanged cells fails in at most 1 of 100; a loss of 10 % is caught in 95 with five runs") {
  const char* all_runs = std::getenv("ANTCREW_ALL_RUNS");
  const int goes = all_runs != nullptr ? 1000 : 100;
  int open = 0;
  const auto failures = [&](int runs, int variants, double factor, double spread, double run) {
    const auto outcomes = test::shared_out(static_cast<std::size_t>(goes), [&](std::size_t k) {
      std::mt19937_64 random(20261127 + k);
      const Runs before = runs_of(runs, variants, 1, spread, run, random);
      const Runs after = runs_of(runs, variants, factor, spread, run, random);
      const Comparison found = compare(before.all(), after.all());
      Requirements required;
      required.not_worse = true;
      const auto now = after.all();
      const auto checks = guard(now, required, &found);
      return any(checks, Outcome::failed) ? 2 : any(checks, Outcome::cannot_tell) ? 1 : 0;
    });
    open = static_cast<int>(std::count(outcomes.begin(), outcomes.end(), 1));
    return static_cast<int>(std::count(outcomes.begin(), outcomes.end(), 2));
  };
  // Rounds spread so that intervals are some ±3 %; runs by 1 %.
  constexpr double of_rounds = 0.04;
  constexpr double of_runs = 0.01;
  const int alike_once = failures(1, 40, 1, of_rounds, of_runs);
  // Of one run each nobody knows how much runs differ: a loss of 15 % in one of 40 cells would not show.
  CHECK(open >= goes / 2);
  const int alike_five = failures(5, 40, 1, of_rounds, of_runs);
  CHECK(open <= goes / 10);
  const int slower = failures(5, 1, 0.9, of_rounds, of_runs);
  MESSAGE("of ", goes, ": alike ", alike_once, " (one run of each), ", alike_five, " (five); 10 % slower ", slower);
  CHECK(alike_once <= goes / 50);
  CHECK(alike_five <= goes / 50);
  CHECK(slower >= goes * 9 / 10);
}
