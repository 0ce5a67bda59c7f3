// From which size on to go parallel, worked out by hand.
#include <doctest/doctest.h>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/worth.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using doctest::Approx;

namespace {

// Times at sizes 100, 1,000 and 10,000; a little noise, the same for all.
Record with_times(const std::vector<double>& baseline, const std::map<int, std::vector<double>>& by_workers) {
  std::vector<Cell> cells;
  const auto add = [&](const std::string& name, int workers, const std::vector<double>& times) {
    for (std::size_t point = 0; point < times.size(); ++point) {
      std::vector<double> trials;
      for (int round = 0; round < 11; ++round) trials.push_back(times[point] * (1 + 0.001 * (round % 3)));
      Cell cell = test::cell_with(name, workers, trials);
      cell.point = point;
      cells.push_back(std::move(cell));
    }
  };
  add("baseline", 1, baseline);
  for (const auto& [workers, times] : by_workers) add("it", workers, times);
  Record record = test::record_of(std::move(cells));
  record.points = {Point{100}, Point{1'000}, Point{10'000}};
  return record;
}

}  // namespace

TEST_CASE("sequential below the border, more workers where they save enough") {
  // Sequential takes n; two workers 500 + n/2, four 2,000 + n/4: borders at 1,000 and 6,000.
  const Record record = with_times({100, 1'000, 10'000}, {{2, {550, 1'000, 5'500}}, {4, {2'025, 2'250, 4'500}}});
  const Analysed study = analyse(record);
  const auto worth = worth_of(study);
  REQUIRE(worth);
  REQUIRE(worth->steps.size() == 2);
  CHECK(worth->steps[0].workers == 2);
  CHECK(static_cast<double>(worth->steps[0].from_size) == Approx(1'000).epsilon(0.06));  // where 2 % are saved
  CHECK(worth->steps[1].workers == 4);
  CHECK(static_cast<double>(worth->steps[1].from_size) == Approx(6'000).epsilon(0.1));
  CHECK(worth->most_regret <= 1.02);
  REQUIRE(worth->crossover);
  CHECK(worth->crossover->of->cell->workers == 4);
  // With two processors, two workers from the same border on, and to the end.
  REQUIRE(worth->with_fewer.size() == 1);
  CHECK(worth->with_fewer[0].most == 2);
  REQUIRE(worth->with_fewer[0].steps.size() == 1);
  CHECK(worth->with_fewer[0].steps[0].from_size == worth->steps[0].from_size);
  CHECK(worth->with_fewer[0].steps[0].workers == 2);
}

TEST_CASE("what pays with many workers need not pay with the few that there may be") {
  const Record record = with_times({100, 1'000, 10'000}, {{2, {130, 1'300, 13'000}}, {8, {50, 500, 5'000}}});
  const Analysed study = analyse(record);
  const auto worth = worth_of(study);
  REQUIRE(worth);
  REQUIRE(worth->steps.size() == 1);
  CHECK(worth->steps[0].workers == 8);
  REQUIRE(worth->with_fewer.size() == 1);
  CHECK(worth->with_fewer[0].most == 2);
  CHECK(worth->with_fewer[0].steps.empty());
}

TEST_CASE("what pays nowhere has no steps; what pays everywhere begins at the smallest size that was tried") {
  const Record never_record = with_times({100, 1'000, 10'000}, {{2, {150, 1'500, 15'000}}});
  const Analysed never = analyse(never_record);
  REQUIRE(worth_of(never));
  CHECK(worth_of(never)->steps.empty());
  const Record always_record = with_times({100, 1'000, 10'000}, {{2, {60, 600, 6'000}}});
  const Analysed always = analyse(always_record);
  REQUIRE(worth_of(always)->steps.size() == 1);
  CHECK(worth_of(always)->steps.front().from_size == 100);
  CHECK_FALSE(worth_of(always, "another"));
}

TEST_CASE("a count with a fault at some size is no advice; one that was only noisy somewhere is") {
  Record record = with_times({100, 1'000, 10'000}, {{2, {60, 600, 6'000}}, {4, {40, 400, 4'000}}});
  Fault fault;
  fault.kind = Fault::Kind::wrong_answer;
  for (Cell& cell : record.cells) {
    if (cell.workers == 4 && cell.point == 1) cell.faults.push_back(fault);
    // Around its baseline's time, widely: too noisy to call.
    if (cell.workers != 2 || cell.point != 0) continue;
    for (std::size_t k = 0; k < cell.trials.size(); ++k) cell.trials[k].wall_s = k % 2 == 0 ? 58 : 170;
  }
  const Analysed study = analyse(record);
  const auto worth = worth_of(study, "it");
  REQUIRE(worth);
  REQUIRE(worth->faulty.size() == 1);
  CHECK(worth->faulty.front()->cell->workers == 4);
  CHECK(worth->unsure == 1);
  REQUIRE(worth->steps.size() == 1);
  CHECK(worth->steps.front().workers == 2);
}
