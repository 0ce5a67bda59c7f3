// Work that is not there: workers that never come, a crew that is never called, parts that are left out or too few.
#include <doctest/doctest.h>

#include <algorithm>

#include "analysis/planted_sums.hpp"
#include "antcrew/analysis/analysed.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::ids;
using test::record_with;
using test::sums_with;

namespace {

const Finding& finding(const std::vector<Finding>& findings, const std::string& id) {
  const auto found = std::find_if(findings.begin(), findings.end(), [&](const Finding& f) { return f.id == id; });
  if (found == findings.end()) FAIL("no finding ", id);
  return *found;
}

// Half of what four workers had is lost beside two threads that are there all the time, of which one ends early.
LaneSums two_of_four(double most_there) {
  LaneSums sums = sums_with({{LaneState::imbalance, 22}});
  sums.looks.emplace();
  sums.looks->moments = 400;
  sums.looks->lanes = 1600;
  sums.looks->most_there = most_there;
  return sums;
}

}  // namespace

TEST_CASE("without a crew: workers that are never there are told apart from those that have too little to do") {
  Record record = record_with(std::vector<LaneSums>(3, two_of_four(2)), 10, 18);
  record.cells[1].crew = "Workers";
  const Analysed study = analyse(record);
  const auto findings = findings_of(study, study.cells[1]);
  CHECK(ids(findings, Finding::Kind::loss) == std::vector<std::string>{"idle-workers", "uneven-pieces"});
  const Finding& idle = finding(findings, "idle-workers");
  CHECK(idle.loss_s == doctest::Approx(20));
  CHECK(idle.share == doctest::Approx(0.5));
  CHECK(*idle.gain_speedup == doctest::Approx(1.8 * 2));
  CHECK(finding(findings, "uneven-pieces").loss_s == doctest::Approx(2));
  for (const double most_there : {0.0, 4.0, 9.0}) {  // not noted, as by an older version; all; more than that
    record.cells[1].metered.assign(3, two_of_four(most_there));
    const Analysed all = analyse(record);
    CHECK(ids(findings_of(all, all.cells[1]), Finding::Kind::loss) == std::vector<std::string>{"uneven-pieces"});
  }
}

TEST_CASE("a crew that the body never calls is told so, besides what that costs") {
  LaneSums sums = sums_with({{LaneState::serial, 10}, {LaneState::serial_wait, 30}});
  Record record = record_with({sums, sums, sums}, 10, 20);
  const Analysed study = analyse(record);
  const auto findings = findings_of(study, study.cells[1]);
  CHECK(ids(findings, Finding::Kind::meaning) == std::vector<std::string>{"idle-workers"});
  CHECK(ids(findings, Finding::Kind::loss) == std::vector<std::string>{"sequential-stretch"});
  sums.regions = 1;
  record.cells[1].metered.assign(3, sums);
  const Analysed called = analyse(record);
  CHECK(ids(findings_of(called, called.cells[1]), Finding::Kind::meaning).empty());
}

TEST_CASE("bodies that wait far less than a baseline that waits have left it out: the gain is no gain") {
  const auto losses = [](double blocked_s, double baseline_cpu_s, double regions = 1) {
    LedgerBasis basis;
    basis.baseline_s = 80;
    basis.baseline_cpu_s = baseline_cpu_s;
    basis.processors = 4;
    LaneSums sums = sums_with({{LaneState::blocked, blocked_s}}, 4, 20);
    sums.regions = regions;
    const Ledger ledger = ledger_of(sums, basis);
    double all = ledger.unattributed_s;
    for (const Loss& loss : ledger.losses) all += loss.loss_s;
    CHECK(all == doctest::Approx(ledger.lane_seconds() - ledger.necessary_s));
    for (const Loss& loss : ledger.losses) {
      if (loss.cause == Cause::skipped_work) return loss.loss_s;
    }
    return 0.0;
  };
  CHECK(losses(30, 1) == doctest::Approx(-49));
  CHECK(losses(30, 1, 0) == 0);  // all of it outside of the crew: others may wait in its place
  CHECK(losses(70, 1) == 0);     // not far less
  CHECK(losses(10, 60) == 0);    // the baseline computes: caches may do that
  LaneSums quarter = sums_with({{LaneState::blocked, 39}});
  quarter.regions = 1;
  Record record = record_with({quarter, quarter, quarter}, 10, 160);
  for (Trial& trial : record.cells[0].trials) trial.user_s = trial.system_s = 0;
  const Analysed study = analyse(record);
  const auto findings = findings_of(study, study.cells[1]);
  CHECK(ids(findings, Finding::Kind::meaning) == std::vector<std::string>{"superlinear"});
  CHECK(ids(findings, Finding::Kind::loss) == std::vector<std::string>{"skipped-work"});
  CHECK(ids(findings, Finding::Kind::remark).empty());  // not: nothing wrong
  // With the 121 s that are missing, 161 s by four workers.
  CHECK(*finding(findings, "skipped-work").gain_speedup == doctest::Approx(160 * 4 / 161.0));
}

TEST_CASE("pieces that are too few may be made smaller: their length does not bound what that brings") {
  LaneSums sums = sums_with({{LaneState::imbalance, 20}});
  internal::RegionFacts region;
  region.sharing = "even";
  region.calls = 1;
  region.n = region.pieces = 2;
  region.longest_piece_s = 10;
  region.imbalance_s = 20;
  region.causes.divisible_s = 20;
  sums.by_place = {region};
  const Record record = record_with({sums, sums, sums}, 10, 20);
  const Analysed study = analyse(record);
  const auto findings = findings_of(study, study.cells[1]);
  const Finding& few = finding(findings, "not-divisible");
  CHECK(*few.gain_speedup == doctest::Approx(4));
  CHECK_FALSE(few.limit_speedup.has_value());  // two pieces are no limit of what more of them bring
}

TEST_CASE("bodies that wait longer make pieces longer, too: neither bounds what it brings to wait less") {
  // Each of four workers does all of the work, 10 s of waiting.
  LaneSums sums = sums_with({{LaneState::blocked, 40}});
  internal::RegionFacts region;
  region.sharing = "even";
  region.calls = 1;
  region.n = region.pieces = 4;
  region.longest_piece_s = 10;
  sums.by_place = {region};
  sums.regions = 1;
  Record record = record_with({sums, sums, sums}, 10, 10);
  for (Trial& trial : record.cells[0].trials) trial.user_s = trial.system_s = 0;
  const Analysed study = analyse(record);
  const auto findings = findings_of(study, study.cells[1]);
  const Finding& blocked = finding(findings, "blocked");
  CHECK(blocked.share == doctest::Approx(0.75));
  CHECK(*blocked.gain_speedup == doctest::Approx(4));
  CHECK_FALSE(blocked.limit_speedup.has_value());
  CHECK(blocked.figures.get("as_if_all_did_all") == 4);
}
