#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"

#include <doctest/doctest.h>

#include <algorithm>
#include <chrono>

#include "analysis/planted_sums.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using internal::RegionFacts;
using test::ids;
using test::record_with;
using test::sums_with;

namespace {

LedgerBasis basis_with(double baseline_s) {
  LedgerBasis basis;
  basis.baseline_s = basis.baseline_cpu_s.emplace(baseline_s);
  basis.processors = 4;
  basis.crew = "ThreadCrew";
  return basis;
}

double loss_of(const Ledger& ledger, Cause cause) {
  for (const Loss& loss : ledger.losses) {
    if (loss.cause == cause) return loss.loss_s;
  }
  return 0;
}

void check_identity(const Ledger& ledger) {
  double losses = ledger.unattributed_s;
  for (const Loss& loss : ledger.losses) losses += loss.loss_s;
  CHECK(losses == doctest::Approx(ledger.lane_seconds() - ledger.necessary_s));
  double states = ledger.work_change_s + ledger.metering_s;
  for (const LaneState state :
       {LaneState::waiting_to_run, LaneState::lock, LaneState::stage, LaneState::moving_data, LaneState::serial_wait,
        LaneState::start_up, LaneState::dispatch, LaneState::no_work, LaneState::imbalance, LaneState::unaccounted})
    states += ledger.parts_s[state];
  CHECK(states == doctest::Approx(ledger.lane_seconds() - ledger.necessary_s));
}

}  // namespace

TEST_CASE("each second has one owner, and both sides of the identity agree") {
  LaneSums sums = sums_with({{LaneState::serial, 3},
                             {LaneState::serial_wait, 9},
                             {LaneState::lock, 2},
                             {LaneState::imbalance, 4},
                             {LaneState::dispatch, 1},
                             {LaneState::unaccounted, 0.5}});
  RegionFacts region;
  region.place = "tides.cpp:10";
  region.sharing = "even";
  region.calls = 1;
  region.n = 5;
  region.imbalance_s = 4;
  region.late_s = 0.4;
  region.causes = {0.5, 0.5, 1, 1.5, 0.5};
  sums.by_place = {region};
  sums.metering_s = 0.4;  // one per cent
  const Ledger ledger = ledger_of(sums, basis_with(20));
  check_identity(ledger);
  CHECK(loss_of(ledger, Cause::sequential_stretch) == doctest::Approx(0.99 * 9));
  CHECK(loss_of(ledger, Cause::lock_wait) == doctest::Approx(0.99 * 3));
  CHECK(loss_of(ledger, Cause::uneven_pieces) == doctest::Approx(0.99 * 1.5));
  CHECK(loss_of(ledger, Cause::not_divisible) == doctest::Approx(0.99 * 0.5));
  CHECK(loss_of(ledger, Cause::late_start) == doctest::Approx(0.99 * 0.9));
  CHECK(loss_of(ledger, Cause::shared_processor) == doctest::Approx(0.99 * 0.5));
  CHECK(ledger.losses.front().cause == Cause::sequential_stretch);
}

TEST_CASE("work change goes to extra work, the kernel, one worker, the machine and the rest, in this order") {
  LaneSums sums = sums_with({});  // 40 s of running
  sums.system_s = 3;
  LedgerBasis basis = basis_with(20);
  basis.work_ratio = 1.2;
  basis.one_worker_s = 25;
  basis.crowd = 1.1;
  const Ledger ledger = ledger_of(sums, basis);
  check_identity(ledger);
  CHECK(loss_of(ledger, Cause::extra_work) == doctest::Approx(4));
  CHECK(loss_of(ledger, Cause::fresh_memory) == doctest::Approx(3));
  CHECK(loss_of(ledger, Cause::inflation_one_worker) == doctest::Approx(5));
  CHECK(loss_of(ledger, Cause::inflation_machine) == doctest::Approx(2.5));
  CHECK(loss_of(ledger, Cause::inflation_own) == doctest::Approx(20 - 4 - 3 - 5 - 2.5));
  basis.work_ratio = 0.5;
  const Ledger less = ledger_of(sums, basis);
  check_identity(less);
  CHECK(loss_of(less, Cause::skipped_work) == doctest::Approx(-10));
}

TEST_CASE("bodies that wait longer than the baseline's are blocked; extra work waits more, too") {
  LaneSums sums = sums_with({{LaneState::blocked, 30}});
  LedgerBasis basis = basis_with(20);
  basis.baseline_cpu_s = 0;
  CHECK(loss_of(ledger_of(sums, basis), Cause::blocked) == doctest::Approx(10));
  basis.work_ratio = 2;
  CHECK(loss_of(ledger_of(sums, basis), Cause::blocked) == 0);
  CHECK(loss_of(ledger_of(sums, basis), Cause::extra_work) == doctest::Approx(20));
}

TEST_CASE("oversubscribed rests on seconds: workers that wait for something else are not") {
  LedgerBasis basis = basis_with(20);
  basis.processors = 2;
  CHECK(loss_of(ledger_of(sums_with({{LaneState::blocked, 30}}), basis), Cause::oversubscribed) == 0);
  CHECK(loss_of(ledger_of(sums_with({{LaneState::waiting_to_run, 12}}), basis), Cause::oversubscribed) == 12);
  basis.processors = 4;
  CHECK(loss_of(ledger_of(sums_with({{LaneState::waiting_to_run, 12}}), basis), Cause::shared_processor) == 12);
  basis.throttled_s = 3;
  CHECK(loss_of(ledger_of(sums_with({{LaneState::waiting_to_run, 12}}), basis), Cause::quota) == 12);
}

TEST_CASE("what one worker takes longer is told with whether its allocations were counted") {
  LaneSums sums = sums_with({{LaneState::running, 30}, {LaneState::imbalance, 10}});
  LedgerBasis basis = basis_with(20);
  basis.one_worker_s = 25;
  sums.library = internal::LibraryCounts();
  for (const bool counted : {false, true}) {
    sums.memory_counted = counted;
    const Ledger ledger = ledger_of(sums, basis);
    const auto loss = std::find_if(ledger.losses.begin(), ledger.losses.end(),
                                   [](const Loss& one) { return one.cause == Cause::inflation_one_worker; });
    REQUIRE(loss != ledger.losses.end());
    CHECK(loss->figures.has("not_counted") == !counted);
  }
}

TEST_CASE("threads beyond the workers that are as busy as workers wait are the program's own crowd") {
  LedgerBasis basis = basis_with(20);
  basis.processors = 4;
  LaneSums sums = sums_with({{LaneState::waiting_to_run, 12}});
  sums.looks = internal::SampleFacts();
  sums.looks->outside = 0.7;  // where 1.2 workers wait at a time
  const Ledger own = ledger_of(sums, basis);
  CHECK(loss_of(own, Cause::oversubscribed) == 12);
  CHECK(own.losses.front().figures.get("threads") == doctest::Approx(4.7));
  basis.taken_processors = 0.6;  // other programs, as far as one can tell
  CHECK(loss_of(ledger_of(sums, basis), Cause::shared_processor) == 12);
  basis.taken_processors = 0;
  sums.looks->outside = 0.5;
  CHECK(loss_of(ledger_of(sums, basis), Cause::shared_processor) == 12);
}

TEST_CASE("a finding has its share, what removing it brings at most, and how sure it is") {
  const LaneSums serial = sums_with({{LaneState::serial, 4}, {LaneState::serial_wait, 12}});
  const Record record = record_with({serial, serial, serial});
  const Analysed study = analyse(record);
  const auto findings = findings_of(study, study.cells[1]);
  REQUIRE(!findings.empty());
  const Finding& first = findings.front();
  CHECK(first.id == "sequential-stretch");
  CHECK(first.share == doctest::Approx(0.3));
  CHECK(first.sure == Finding::Sure::measured);
  // Of 40 worker-seconds 12 go: 7 s a call in place of 10.
  CHECK(*first.gain_speedup == doctest::Approx(2.8 * 10 / 7));
  CHECK(*first.limit_speedup == doctest::Approx(28.0 / 4));  // four seconds in turn stay
}

TEST_CASE("measured only when it is first in all metered calls") {
  const LaneSums serial = sums_with({{LaneState::serial, 4}, {LaneState::serial_wait, 6}, {LaneState::no_work, 5}});
  const LaneSums other = sums_with({{LaneState::serial, 4}, {LaneState::serial_wait, 5}, {LaneState::no_work, 6}});
  const Record record = record_with({serial, serial, other});
  const Analysed study = analyse(record);
  CHECK(findings_of(study, study.cells[1]).front().sure == Finding::Sure::likely);
}

TEST_CASE("the gain is bounded by what else stands in the way") {
  LaneSums sums = sums_with({{LaneState::lock, 20}});
  sums.locks = {{"map", 10, 20, 10, 9}};
  RegionFacts region;
  region.sharing = "pieces";
  region.n = region.pieces = 4;
  region.longest_piece_s = 8;
  sums.by_place = {region};
  const Record record = record_with({sums, sums, sums});
  const Analysed study = analyse(record);
  const Finding first = findings_of(study, study.cells[1]).front();
  CHECK(first.id == "lock-wait");
  CHECK(*first.gain_speedup == doctest::Approx(2.8 * 10 / 5));  // the lock's own floor goes with it
  CHECK_FALSE(first.limit_speedup.has_value());  // nine seconds at the lock are no limit of what comes without it
}

TEST_CASE("a call that its log slowed is not explained by it, but for counts") {
  LaneSums slow = sums_with({{LaneState::dispatch, 20}});
  slow.slowdown = 0.4;
  slow.metering_s = 4;
  slow.regions = 1e6;
  slow.call_cost_s = 2e-6;
  const Record record = record_with({slow, slow, slow});
  const Analysed study = analyse(record);
  CHECK(!withheld_because(study, study.cells[1]).empty());
  const auto losses = ids(findings_of(study, study.cells[1]), Finding::Kind::loss);
  CHECK(losses == std::vector<std::string>{"small-calls"});
  LaneSums noisy = sums_with({{LaneState::dispatch, 20}});
  noisy.slowdown = 0.4;  // few events: that was noise
  const Record other = record_with({noisy, noisy, noisy});
  const Analysed told = analyse(other);
  CHECK(withheld_because(told, told.cells[1]).empty());
}

TEST_CASE("threads by hand, work outside of the lanes, and a record without logs are not explained by seconds") {
  LaneSums hand = sums_with({{LaneState::serial, 10}, {LaneState::serial_wait, 30}});
  Record record = record_with({hand});
  record.cells[1].crew = "Workers";
  Analysed study = analyse(record);
  CHECK(!withheld_because(study, study.cells[1]).empty());
  LaneSums outside = sums_with({{LaneState::blocked, 10}});
  outside.cpu_tree_s += 10;
  const Record second = record_with({outside});
  const Analysed of_second = analyse(second);
  CHECK(!withheld_because(of_second, of_second.cells[1]).empty());
  const Record none = record_with({});
  const Analysed of_none = analyse(none);
  CHECK(!withheld_because(of_none, of_none.cells[1]).empty());
  CHECK(ids(findings_of(of_none, of_none.cells[1]), Finding::Kind::loss).empty());
}

TEST_CASE("meaning comes before losses, and a sound cell without a loss is told so") {
  const LaneSums sums = sums_with({{LaneState::serial, 4}, {LaneState::serial_wait, 12}});
  Record record = record_with({sums, sums, sums});
  auto one = test::cell_with("planted", 1, std::vector<double>(8, 20));  // the baseline takes 28
  record.cells.push_back(one);
  const Analysed study = analyse(record);
  const auto findings = findings_of(study, study.cells[1]);
  REQUIRE(findings.size() >= 2);
  CHECK(findings[0].id == "weak-baseline");
  CHECK(findings[1].id == "sequential-stretch");
  const LaneSums fine = sums_with({{LaneState::imbalance, 1}});
  const Record healthy = record_with({fine, fine, fine}, 10, 39);
  const Analysed sound = analyse(healthy);
  const auto none = findings_of(sound, sound.cells[1]);
  CHECK(ids(none, Finding::Kind::loss).empty());
  CHECK(ids(none, Finding::Kind::remark).front() == "nothing-wrong");
}

TEST_CASE("what the data cannot tell apart names both") {
  const LaneSums sums = sums_with({});
  const Record record = record_with({sums, sums, sums});  // 40 s where the baseline takes 28, no cell with one worker
  const Analysed study = analyse(record);
  const auto findings = findings_of(study, study.cells[1]);
  const auto own =
      std::find_if(findings.begin(), findings.end(), [](const Finding& f) { return f.id == "work-inflation-own"; });
  REQUIRE(own != findings.end());
  CHECK(own->sure == Finding::Sure::open);
  CHECK(own->or_else == "work-inflation-one-worker");
}

TEST_CASE("the headline's cell is explained first, then each variant at its largest worker count") {
  Record record = record_with({}, 10, 28, 2);
  record.cells.push_back(test::cell_with("planted", 4, std::vector<double>(8, 12)));
  record.cells.push_back(test::cell_with("other", 2, std::vector<double>(8, 14)));
  record.cells.push_back(test::cell_with("other", 4, std::vector<double>(8, 13)));
  const Analysed study = analyse(record);
  std::vector<std::pair<std::string, int>> cells;
  for (const CellFigures* cell : explained_cells(study)) cells.emplace_back(cell->cell->variant, cell->cell->workers);
  CHECK(cells == std::vector<std::pair<std::string, int>>{{"planted", 2}, {"planted", 4}, {"other", 4}});
}

TEST_CASE("a machine that was slower in a metered call slows the baseline as much: that is no work change") {
  const LaneSums slow = sums_with({{LaneState::imbalance, 1}}, 4, 15);  // its timed calls take 10
  const Record record = record_with({slow, slow, slow}, 10, 39);
  const Analysed study = analyse(record);
  CHECK(ledgers_of(study, study.cells[1]).front().necessary_s == doctest::Approx(39 * 1.5).epsilon(0.03));
  CHECK(ids(findings_of(study, study.cells[1]), Finding::Kind::loss).empty());
}

TEST_CASE("a lock is told by its waits also where the log slowed the call") {
  LaneSums slow = sums_with({{LaneState::lock, 20}});
  slow.slowdown = 0.4;
  slow.metering_s = 4;
  slow.locks = {{"map", 100'000, 20, 100'000, 9}};
  const Record record = record_with({slow, slow, slow});
  const Analysed study = analyse(record);
  const Finding first = findings_of(study, study.cells[1]).front();
  CHECK(first.id == "lock-wait");
  CHECK(first.name == "map");
  CHECK(first.share == doctest::Approx(0.5));
  CHECK(first.sure == Finding::Sure::likely);
}

TEST_CASE("of a cell with one worker, what it takes more is that of one worker, and no worker count is spoken of") {
  const LaneSums alone = sums_with({{LaneState::serial, 10}}, 1);
  const Record record = record_with({alone, alone, alone}, 10, 6, 1);
  const Analysed study = analyse(record);
  const Finding first = findings_of(study, study.cells[1]).front();
  CHECK(first.id == "work-inflation-one-worker");
  CHECK(first.sure == Finding::Sure::measured);
  CHECK(!first.limit_speedup.has_value());
}

TEST_CASE("a loss of CPU time leaves room on the processors: the gain is not held by what is gone") {
  const LaneSums sums = sums_with({}, 2);  // 20 s of running on two processors
  Record record = record_with({sums, sums, sums}, 10, 10, 2);
  record.machine.limits.online_processors = record.machine.limits.affinity_processors = 2;
  record.cells.push_back(test::cell_with("planted", 1, std::vector<double>(8, 20)));
  const Analysed study = analyse(record);
  const Finding first = findings_of(study, study.cells[1]).front();
  CHECK(first.id == "work-inflation-one-worker");
  CHECK(*first.gain_speedup == doctest::Approx(2));
}

TEST_CASE("what a hypervisor took may look like bodies that sleep: both are named, and what is larger stays") {
  const auto first_of = [](double taken_processors) {
    Record record = record_with({sums_with({{LaneState::blocked, 6}}), sums_with({{LaneState::blocked, 6}}),
                                 sums_with({{LaneState::blocked, 6}})},
                                10, 34);
    BlockFacts block;
    block.wall_s = 100;
    block.steal_s = 100 * taken_processors;
    record.blocks = {block};
    const Analysed study = analyse(record);
    for (const Finding& f : findings_of(study, study.cells.back())) {
      if (f.id == "blocked") return f;
    }
    return Finding{};
  };
  const Finding taken = first_of(0.7);  // of 10 s of wall time
  CHECK(taken.sure == Finding::Sure::open);
  CHECK(taken.or_else == "noise");
  CHECK(taken.figures.get("taken_processors") == doctest::Approx(0.7));
  const Finding told = first_of(0.5);
  CHECK(told.sure == Finding::Sure::measured);
  CHECK(told.or_else.empty());
}

TEST_CASE("without a lock's waits what its turns cost may go, too: at most says at most") {
  LaneSums sums = sums_with({{LaneState::lock, 20}});
  const auto gain_with = [&](double baseline_s) {
    const Record record = record_with({sums, sums, sums}, 10, baseline_s);
    const Analysed study = analyse(record);
    for (const Finding& f : findings_of(study, study.cells.back())) {
      if (f.id == "lock-wait") return *f.gain_speedup / (baseline_s / 10);
    }
    return 0.0;
  };
  CHECK(gain_with(20) == doctest::Approx(2).epsilon(0.1));   // the work takes no more than the baseline's
  CHECK(gain_with(10) == doctest::Approx(4).epsilon(0.15));  // 10 s more than the baseline's
}
