// What findings promise, over logs made by chance: "at most" is at most, and limits agree.
#include <doctest/doctest.h>

#include <algorithm>
#include <random>
#include <set>

#include "analysis/planted_sums.hpp"
#include "antcrew/analysis/analysed.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using internal::LockFacts;
using internal::RegionFacts;
using internal::StageFigures;
using test::record_with;
using test::sums_with;

namespace {

class Chance {
 public:
  explicit Chance(unsigned seed) : random_(seed) {}
  double up_to(double most) { return std::uniform_real_distribution<double>(0, most)(random_); }
  bool one_in(int n) { return std::uniform_int_distribution<int>(1, n)(random_) == 1; }
  template <class T>
  T of(std::initializer_list<T> all) {
    return *(all.begin() + std::uniform_int_distribution<std::ptrdiff_t>(0, std::ssize(all) - 1)(random_));
  }

 private:
  std::mt19937 random_;
};

// Parts of every kind, few of them large, with places, locks, stages and chains that are no longer than the call.
LaneSums log_by_chance(Chance& chance, int lanes, double wall_s) {
  std::vector<std::pair<LaneState, double>> parts;
  double left = lanes * wall_s * chance.up_to(1);
  for (const LaneState state :
       {LaneState::blocked, LaneState::waiting_to_run, LaneState::lock, LaneState::stage, LaneState::moving_data,
        LaneState::start_up, LaneState::dispatch, LaneState::no_work, LaneState::imbalance, LaneState::unaccounted}) {
    if (chance.one_in(2)) continue;
    const double seconds = chance.up_to(chance.one_in(3) ? left : left / 8);
    parts.emplace_back(state, seconds);
    left -= seconds;
  }
  if (chance.one_in(3)) {
    const double serial_s = chance.up_to(left / lanes);
    parts.emplace_back(LaneState::serial, serial_s);
    parts.emplace_back(LaneState::serial_wait, serial_s * (lanes - 1));
  }
  LaneSums sums = sums_with(parts, lanes, wall_s);
  if (chance.one_in(2)) sums.critical_path_s = chance.up_to(wall_s);
  if (chance.one_in(2))
    sums.locks.push_back(LockFacts{"map", 10, sums.parts_s[LaneState::lock], 10, chance.up_to(wall_s)});
  if (chance.one_in(3)) sums.stages.push_back(StageFigures{"read", true, chance.up_to(wall_s), 10, 0});
  if (chance.one_in(3)) sums.system_s = chance.up_to(sums.parts_s[LaneState::running]);
  if (chance.one_in(2)) sums.page_fault_s = 1e-6, sums.page_faults = chance.up_to(1e6);
  if (chance.one_in(2)) {
    RegionFacts region;
    region.place = "tides.cpp:10";
    region.sharing = chance.of<const char*>({"even", "pieces", "forks"});
    region.calls = 1;
    region.n = region.pieces = std::max(1.0, std::floor(chance.up_to(2e6)));
    region.wall_s = region.finer_s = region.tapering_s = chance.up_to(wall_s);
    region.longest_piece_s = chance.up_to(region.wall_s);
    region.imbalance_s = sums.parts_s[LaneState::imbalance];
    region.causes.uneven_s = chance.up_to(region.imbalance_s);
    region.causes.late_s = region.imbalance_s - region.causes.uneven_s;
    sums.by_place.push_back(region);
    sums.regions = 1;
    sums.piece_cost_s = chance.up_to(1e-6);
    sums.call_cost_s = chance.up_to(1e-5);
  }
  return sums;
}

struct Made {
  Record record;
  double baseline_s;
  std::optional<double> one_worker_s;
};

Made record_by_chance(Chance& chance) {
  const int lanes = chance.of({2, 3, 4, 8, 64});
  const double wall_s = 1 + chance.up_to(9);
  const double baseline_s = wall_s * (0.1 + chance.up_to(1.2 * lanes));
  std::vector<LaneSums> metered;
  for (int call = 0; call < 3; ++call)
    metered.push_back(log_by_chance(chance, lanes, wall_s * (0.95 + chance.up_to(0.1))));
  Made made{record_with(std::move(metered), wall_s, baseline_s, lanes), baseline_s, {}};
  if (chance.one_in(2)) {
    made.one_worker_s = baseline_s * (0.5 + chance.up_to(2));
    made.record.cells.push_back(test::cell_with("planted", 1, std::vector<double>(8, *made.one_worker_s)));
  }
  made.record.machine.limits.online_processors = made.record.machine.limits.affinity_processors = chance.of({2, 4, 64});
  return made;
}

const CellFigures& planted(const Analysed& study) {
  return *std::find_if(study.cells.begin(), study.cells.end(),
                       [](const CellFigures& f) { return f.cell->variant == "planted" && f.cell->workers > 1; });
}

}  // namespace

TEST_CASE("over ten thousand logs made by chance no promise is more than can be, and all limits agree") {
  Chance chance(20);
  int promises = 0;
  int limits = 0;
  for (int k = 0; k < 10'000; ++k) {
    const Made made = record_by_chance(chance);
    const Analysed study = analyse(made.record);
    const CellFigures& cell = planted(study);
    REQUIRE(cell.speedup);
    const double measured = cell.speedup->high;
    // The least that one worker can need for it, whatever is mended: the baseline's time, its own, or less work.
    const std::vector<Ledger> ledgers = ledgers_of(study, cell);
    double most = measured;
    for (const Ledger& ledger : ledgers) {
      double least_s = std::min(made.baseline_s, made.one_worker_s.value_or(made.baseline_s));
      if (!made.one_worker_s)
        least_s = std::min(least_s, made.baseline_s * (1 + ledger.work_change_s / ledger.necessary_s));
      most = std::max(most, cell.cell->workers * made.baseline_s / std::max(1e-9, least_s));
    }
    std::set<double> told;
    for (const Finding& f : findings_of(study, cell)) {
      if (f.kind != Finding::Kind::loss) continue;
      CAPTURE(k);
      CAPTURE(f.id);
      if (f.gain_speedup) {
        ++promises;
        if (f.loss_s >= 0) CHECK(*f.gain_speedup >= measured * (1 - 1e-9));
        CHECK(*f.gain_speedup <= most * (1 + 1e-6));
      }
      if (f.limit_speedup) {
        ++limits;
        told.insert(*f.limit_speedup);
        CHECK(*f.limit_speedup >= measured * (1 - 1e-9));
        CHECK(*f.limit_speedup >= f.gain_speedup.value_or(0) * (1 - 1e-9));
        CHECK_FALSE(f.limit_by.empty());
      }
    }
    CHECK(told.size() <= 1);
  }
  CHECK(promises > 10'000);
  CHECK(limits > 1'000);
}

TEST_CASE("uneven loops at several places are one finding each, and what mending all of them brings is told") {
  const auto uneven_with = [](std::size_t places, double wall_s, double imbalance_s) {
    LaneSums sums = sums_with({{LaneState::imbalance, 20}});
    for (std::size_t k = 0; k < places; ++k) {
      RegionFacts region;
      region.place = "tides.cpp:" + std::to_string(10 + k);
      region.sharing = "even";
      region.calls = 1;
      region.n = 1000;
      region.pieces = 4;
      region.wall_s = wall_s;
      region.finer_s = region.tapering_s = wall_s / 2;
      region.imbalance_s = region.causes.uneven_s = imbalance_s;
      sums.by_place.push_back(region);
    }
    const Record record = record_with({sums, sums, sums}, 10, 20);
    const Analysed study = analyse(record);
    const std::vector<Finding> told = findings_of(study, study.cells[1]);
    return std::pair(told, study.cells[1].speedup->median);
  };
  const auto [two, reached] = uneven_with(2, 5, 10);
  REQUIRE(two.size() >= 2);
  for (std::size_t k = 0; k < 2; ++k) {
    CAPTURE(k);
    CHECK(two[k].id == "uneven-pieces");
    CHECK(two[k].name == "tides.cpp:" + std::to_string(10 + k));
    CHECK(two[k].share == doctest::Approx(0.25));
    CHECK(*two[k].gain_speedup == doctest::Approx(2 * 4 / 3.0));
    CHECK(two[k].figures.get("joint_speedup") == doctest::Approx(4));
  }
  CHECK(reached == doctest::Approx(2));
  // Of thirty a record keeps eight, each of which is little.
  const std::vector<Finding> many = uneven_with(8, 10.0 / 30, 20.0 / 30).first;
  REQUIRE(!many.empty());
  CHECK(many.front().id == "uneven-pieces");
  CHECK(many.front().share == doctest::Approx(0.5));
  CHECK(*many.front().gain_speedup == doctest::Approx(4));
  CHECK(many.front().figures.get("places") == 8);
  CHECK(many.front().figures.get("other_places_s") == doctest::Approx(20 * 22.0 / 30));
}

TEST_CASE("where only splitting the longest piece helps, the promise is what splitting it brings") {
  LaneSums sums = sums_with({{LaneState::imbalance, 20}});
  RegionFacts region;
  region.place = "tides.cpp:10";
  region.sharing = "pieces";
  region.calls = 1;
  region.n = region.pieces = 4;
  region.wall_s = 10;
  region.finer_s = region.tapering_s = 9.9;  // a piece is one item
  region.imbalance_s = region.causes.uneven_s = 20;
  sums.by_place = {region};
  const Record record = record_with({sums, sums, sums}, 10, 20);
  const Analysed study = analyse(record);
  const std::vector<Finding> told = findings_of(study, study.cells[1]);
  REQUIRE(!told.empty());
  CHECK(told.front().id == "uneven-pieces");
  CHECK(*told.front().gain_speedup == doctest::Approx(4));
}

TEST_CASE("losses too small to be told may go with a large one, so a promise lets them") {
  // A tenth of all in three portions.
  LaneSums sums = sums_with({{LaneState::lock, 18}, {LaneState::dispatch, 1}, {LaneState::no_work, 1}});
  const Record record = record_with({sums, sums, sums}, 10, 20);
  const Analysed study = analyse(record);
  const std::vector<Finding> told = findings_of(study, study.cells[1]);
  REQUIRE(!told.empty());
  CHECK(told.front().id == "lock-wait");
  CHECK(*told.front().gain_speedup == doctest::Approx(4));
}

TEST_CASE("what a short call costs where it stands is its price, not what empty ones cost back to back") {
  RegionFacts rows;
  rows.place = "silt.cpp:30";
  rows.sharing = "even";
  rows.calls = 20'000;
  rows.n = 2e6;
  rows.pieces = 40'000;
  rows.wall_s = 1;
  rows.body_s = 0.04;
  rows.dispatch_s = 1.2;
  rows.imbalance_s = rows.causes.late_s = 0.7;
  const auto told_with = [&](double slowdown) {
    LaneSums sums = sums_with({{LaneState::dispatch, 1.2}, {LaneState::imbalance, 0.7}}, 2, 1);
    sums.by_place = {rows};
    sums.regions = 20'000;
    sums.call_cost_s = 3e-6;
    sums.slowdown = slowdown;
    sums.metering_s = 0.1;
    const Record record = record_with({sums, sums, sums}, 1, 0.04, 2);
    const Analysed study = analyse(record);
    const std::vector<Finding> told = findings_of(study, study.cells[1]);
    REQUIRE(!told.empty());
    CHECK(told.front().id == "small-calls");
    CHECK(told.front().share > 0.9);
    CHECK(told.front().figures.get("in_place_s") > 40e-6);
    CHECK(*told.front().gain_speedup <= 2.001);
    return *told.front().gain_speedup;
  };
  CHECK(told_with(0.01) > 0.3);                               // a whole ledger
  CHECK(told_with(0.4) == doctest::Approx(2).epsilon(0.05));  // counts only
}

TEST_CASE("a call that took longer and computed no longer waited: the baseline is not taken to be slower for it") {
  LaneSums sums = sums_with({{LaneState::waiting_to_run, 4}}, 2, 12);
  sums.cpu_tree_s = 20;
  const auto necessary = [](const LaneSums& one) {
    const Record record = record_with({one, one, one}, 10, 20, 2);
    const Analysed study = analyse(record);
    return ledgers_of(study, study.cells[1]).front().necessary_s;
  };
  CHECK(necessary(sums) == doctest::Approx(20));
  sums.cpu_tree_s = 24;  // it computed longer, too
  CHECK(necessary(sums) == doctest::Approx(24));
}

TEST_CASE("two workers promise no more than two, whatever the speedup's upper bound is") {
  // 20 worker-seconds, of which 6 wait for a processor; the baseline takes 14, one worker 14.
  const LaneSums sums = sums_with({{LaneState::waiting_to_run, 6}}, 2);
  Record record = record_with({sums, sums, sums}, 10, 14, 2);
  record.cells.push_back(test::cell_with("planted", 1, std::vector<double>(8, 14)));
  // Trials so far apart that the speedup may be twice as high.
  double k = 0;
  for (Trial& trial : record.cells[1].trials) trial.wall_s = 10 * (0.6 + 0.1 * k++);
  const Analysed study = analyse(record);
  for (const Finding& f : findings_of(study, study.cells[1])) {
    if (f.gain_speedup) CHECK(*f.gain_speedup <= std::max(2.0, study.cells[1].speedup->high) * 1.001);
  }
}
