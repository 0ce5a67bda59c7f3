// Losses that are told and those that are not, and what sets of causes took together.
#include <doctest/doctest.h>

#include <algorithm>
#include <numeric>

#include "analysis/planted_sums.hpp"
#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/compare.hpp"
#include "antcrew/analysis/ledger.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using doctest::Approx;
using test::ids;
using test::record_with;
using test::sums_with;

namespace {

double share_of_losses(const std::vector<Finding>& losses) {
  return std::accumulate(losses.begin(), losses.end(), 0.0, [](double sum, const Finding& f) { return sum + f.share; });
}

}  // namespace

TEST_CASE("small losses are in the sum, though none of them is told by itself") {
  // Of 40 worker-seconds: 1.2 at a lock, 1.2 moving data, 1.2 starting workers; the baseline takes the rest.
  const LaneSums sums = sums_with(
      {{LaneState::lock, 1.2}, {LaneState::moving_data, 1.2}, {LaneState::start_up, 1.2}, {LaneState::no_work, 1}});
  const Record record = record_with({sums, sums, sums}, 10, 35.4);
  const Analysed study = analyse(record);
  const CellFigures& cell = study.cells[1];
  const std::vector<Finding> losses = losses_of(study, cell);
  REQUIRE(losses.size() >= 3);
  for (const Finding& loss : losses) {
    CHECK_FALSE(is_told(loss));
    CHECK(loss.gain_speedup.has_value());
  }
  CHECK(share_of_losses(losses) == Approx(4.6 / 40).epsilon(0.02));
  const std::vector<Finding> told = findings_of(study, cell);
  CHECK(ids(told, Finding::Kind::loss) == std::vector<std::string>{"many-small-losses"});
  CHECK(told.front().share == Approx(4.6 / 40).epsilon(0.02));
}

TEST_CASE("small losses under a tenth are told beside that nothing is wrong") {
  const LaneSums sums = sums_with({{LaneState::lock, 1.2}, {LaneState::moving_data, 1.2}, {LaneState::start_up, 0.8}});
  const Record record = record_with({sums, sums, sums}, 10, 36.8);
  const Analysed study = analyse(record);
  const std::vector<Finding> told = findings_of(study, study.cells[1]);
  CHECK(ids(told, Finding::Kind::loss).empty());
  REQUIRE(!told.empty());
  CHECK(told.front().id == "nothing-wrong");
  CHECK(told.front().figures.get("small_losses_share") == Approx(3.2 / 40).epsilon(0.02));
}

TEST_CASE("where small losses come to little, too, nothing is said of them") {
  const LaneSums sums = sums_with({{LaneState::lock, 0.4}, {LaneState::imbalance, 0.4}});
  const Record record = record_with({sums, sums, sums}, 10, 39.2);
  const Analysed study = analyse(record);
  const std::vector<Finding> told = findings_of(study, study.cells[1]);
  REQUIRE(!told.empty());
  CHECK(told.front().id == "nothing-wrong");
  CHECK_FALSE(told.front().figures.has("small_losses_share"));
}

TEST_CASE("what is told is the same list, less what is too small") {
  const LaneSums sums = sums_with({{LaneState::lock, 8}, {LaneState::moving_data, 1}, {LaneState::start_up, 1}});
  const Record record = record_with({sums, sums, sums}, 10, 30);
  const Analysed study = analyse(record);
  std::vector<std::string> large;
  for (const Finding& loss : losses_of(study, study.cells[1])) {
    if (is_told(loss)) large.push_back(loss.id);
  }
  CHECK(large == ids(findings_of(study, study.cells[1]), Finding::Kind::loss));
  CHECK(large == std::vector<std::string>{"lock-wait"});
  CHECK(losses_of(study, study.cells[1]).size() >= 3);
}

TEST_CASE("a loss that was just too small to be told is compared by what it was, not by nothing") {
  // 1.6 of 40 worker-seconds at a lock before, 6 afterwards.
  const LaneSums little = sums_with({{LaneState::lock, 1.6}});
  const LaneSums much = sums_with({{LaneState::lock, 6}}, 4, 11);
  const Record before = record_with({little, little, little}, 10, 38.4);
  Record after = record_with({much, much, much}, 11, 38.4);
  after.created = "2026-02-02T03:04:05Z";
  const Analysed one = analyse(before);
  const Analysed other = analyse(after);
  const Comparison found = compare({&one}, {&other});
  const auto cell = std::find_if(found.cells.begin(), found.cells.end(),
                                 [](const ComparedCell& c) { return c.after->cell->variant == "planted"; });
  REQUIRE(cell != found.cells.end());
  REQUIRE(cell->grown.has_value());
  CHECK(cell->grown->id == "lock-wait");
  CHECK(cell->grown->before_s == Approx(1.6).epsilon(0.05));
  CHECK(cell->grown->after_s == Approx(6).epsilon(0.05));
}
