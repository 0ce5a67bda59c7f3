// Causes by their right names: each planted in sums made by hand, most with a twin that is not told.
#include <doctest/doctest.h>

#include <algorithm>

#include "analysis/planted_sums.hpp"
#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/taken_processors.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::ids;
using test::record_with;
using test::sums_with;

namespace {

double loss_of(const std::vector<Finding>& findings, const std::string& id) {
  const auto found = std::find_if(findings.begin(), findings.end(), [&](const Finding& f) { return f.id == id; });
  return found == findings.end() ? 0 : found->loss_s;
}

// Two processors, of which other programs kept so many busy.
void keep_busy(Record& record, double others) {
  record.machine.limits.online_processors = record.machine.limits.affinity_processors = 2;
  BlockFacts block;
  block.wall_s = 100;
  block.other_cpu_s = 100 * others;
  record.blocks = {block};
}

}  // namespace

TEST_CASE("the kernel's time is fresh memory as far as page faults explain it, and a cause of its own beyond") {
  const auto told_with = [](double faults) {
    LaneSums sums = sums_with({});
    sums.system_s = 18;
    sums.page_faults = faults;
    sums.page_fault_s = 1e-6;
    const Record record = record_with({sums, sums, sums}, 10, 20);
    const Analysed study = analyse(record);
    return losses_of(study, study.cells[1]);
  };
  CHECK(loss_of(told_with(0), "kernel-time") == doctest::Approx(18));
  CHECK(loss_of(told_with(0), "fresh-memory") == 0);
  CHECK(loss_of(told_with(10e6), "fresh-memory") == doctest::Approx(18));
  CHECK(loss_of(told_with(10e6), "kernel-time") == 0);
  CHECK(loss_of(told_with(1e6), "fresh-memory") == doctest::Approx(4));  // up to four times the price of a lone worker
  CHECK(loss_of(told_with(1e6), "kernel-time") == doctest::Approx(14));
}

TEST_CASE("what is counted and no measure of the work makes no finding of more or less work") {
  const auto told_with = [](std::map<std::string, double> Trial::*where) {
    const LaneSums sums = sums_with({});
    Record record = record_with({sums, sums, sums}, 10, 20);
    for (Trial& trial : record.cells[0].trials) (trial.*where)["allocations"] = 100;
    for (Trial& trial : record.cells[1].trials) (trial.*where)["allocations"] = 10;
    const Analysed study = analyse(record);
    return loss_of(losses_of(study, study.cells[1]), "skipped-work");
  };
  CHECK(told_with(&Trial::quantities) == 0);
  CHECK(told_with(&Trial::counters) < 0);
}

TEST_CASE("seven small losses are listed; nothing is called well that loses a third") {
  const LaneSums sums = sums_with({{LaneState::lock, 1.9},
                                   {LaneState::stage, 1.9},
                                   {LaneState::moving_data, 1.9},
                                   {LaneState::start_up, 1.9},
                                   {LaneState::no_work, 1.9},
                                   {LaneState::waiting_to_run, 1.9},
                                   {LaneState::dispatch, 1.9}});
  const Record record = record_with({sums, sums, sums}, 10, 26.7);
  const Analysed study = analyse(record);
  const std::vector<Finding> told = findings_of(study, study.cells[1]);
  REQUIRE(!told.empty());
  CHECK(ids(told, Finding::Kind::loss) == std::vector<std::string>{"many-small-losses"});
  CHECK(told.front().share == doctest::Approx(13.3 / 40).epsilon(0.02));
  CHECK(told.front().figures.get("losses") == 7);
  CHECK(told.front().name.find("lock-wait 4.8 %") != std::string::npos);
  CHECK(*told.front().gain_speedup == doctest::Approx(4).epsilon(0.02));
  for (const Finding& f : told) CHECK(f.id != "nothing-wrong");
}

TEST_CASE("what the middle call lost is told, though the others did not, and not that nothing is wrong") {
  const LaneSums fine = sums_with({}, 4, 10);
  const LaneSums waits = sums_with({{LaneState::waiting_to_run, 19}}, 4, 10.01);
  const LaneSums longer = sums_with({}, 4, 10.02);
  const Record record = record_with({fine, waits, longer}, 10, 39.9);
  const Analysed study = analyse(record);
  const std::vector<Finding> told = findings_of(study, study.cells[1]);
  REQUIRE(!told.empty());
  CHECK(told.front().id == "shared-processor");
  CHECK(told.front().sure == Finding::Sure::open);
  CHECK(told.front().or_else == "noise");
  for (const Finding& f : told) CHECK(f.id != "nothing-wrong");
}

TEST_CASE("waits that are as long as the baseline's can overlap further; what computes cannot") {
  const auto told_with = [](double waiting_s) {
    LaneSums sums = sums_with({{LaneState::blocked, waiting_s}});
    LaneSums alone = sums_with({{LaneState::serial, 40}}, 1, 40);
    alone.serial_cpu_s = 40 - waiting_s;
    Record record = record_with({sums, sums, sums}, 10, 40);
    record.cells[0].metered = {alone, alone, alone};
    record.machine.limits.online_processors = record.machine.limits.affinity_processors = 4;
    const Analysed study = analyse(record);
    std::vector<std::string> told;
    for (const Finding& f : findings_of(study, study.cells[1])) {
      told.push_back(f.id);
      if (f.id == "waits-can-overlap") {
        CHECK(f.figures.get("more_workers") == 8);
        CHECK(f.figures.get("speedup") == doctest::Approx(8));
      }
    }
    return told;
  };
  const auto has = [](const std::vector<std::string>& all, const char* id) {
    return std::find(all.begin(), all.end(), id) != all.end();
  };
  CHECK(has(told_with(39), "waits-can-overlap"));
  CHECK_FALSE(has(told_with(39), "nothing-wrong"));
  CHECK(has(told_with(1), "nothing-wrong"));
  CHECK_FALSE(has(told_with(1), "waits-can-overlap"));
}

TEST_CASE("instrumented calls that took longer than the timed ones, and not by their log, tell nothing") {
  const LaneSums slow = sums_with({{LaneState::lock, 60}}, 4, 27);
  const LaneSums usual = sums_with({{LaneState::moving_data, 10}}, 4, 10);
  const auto withheld_with = [](const std::vector<LaneSums>& calls) {
    const Record record = record_with(calls);
    const Analysed study = analyse(record);
    return withheld_because(study, study.cells[1]);
  };
  CHECK(withheld_with({slow, slow, slow}).find("took 2.7 times as long as those without a log") != std::string::npos);
  CHECK(withheld_with({slow, usual, slow}).empty());
  const Record record = record_with({slow, usual, slow});
  const Analysed study = analyse(record);
  const auto findings = findings_of(study, study.cells[1]);
  CHECK(ids(findings, Finding::Kind::loss).front() == "moving-data");
}

TEST_CASE("where calls beside without a log took a third, it was the log, and the ledger tells nothing") {
  LaneSums sums = sums_with({{LaneState::lock, 60}}, 4, 33);
  sums.slowdown = 2.3;
  const Record record = record_with({sums, sums, sums});
  CHECK_FALSE(was_disturbed(sums, record.cells[1]));  // trying again would bring the same
  const Analysed study = analyse(record);
  CHECK(withheld_because(study, study.cells[1]).find("took 3.3 times as long as those without a log") !=
        std::string::npos);
}

TEST_CASE("samples that count four times the CPU time that the kernel does tell nothing") {
  LaneSums sums = sums_with({}, 2, 0.1);
  sums.looks.emplace().lanes = 3000;
  sums.looks->moments = 1500;
  sums.cpu_frames_s = 0.181;
  sums.cpu_kernel_s = sums.cpu_tree_s = 0.04;
  const auto withheld = [&] {
    const Record record = record_with({sums, sums, sums}, 0.1, 0.19, 2);
    const Analysed study = analyse(record);
    return withheld_because(study, study.cells[1]);
  };
  CHECK(withheld().find("samples and kernel disagree on its CPU time, 181 ms and 40.0 ms") != std::string::npos);
  sums.cpu_kernel_s = 0.175;
  CHECK(withheld().empty());
}

TEST_CASE("memory grows by what further workers take, over worker counts; one count tells nothing of workers") {
  constexpr double mib = 1 << 20;
  const auto told = [](std::vector<std::pair<int, double>> peaks, double baseline_mib) {
    auto baseline = test::cell_with("baseline", 1, std::vector<double>(8, 20));
    for (Trial& trial : baseline.trials) trial.peak_bytes = static_cast<std::uint64_t>(baseline_mib * mib);
    std::vector<Cell> cells{baseline};
    for (const auto& [workers, peak_mib] : peaks) {
      auto cell = test::cell_with("planted", workers, std::vector<double>(8, 10));
      for (Trial& trial : cell.trials) trial.peak_bytes = static_cast<std::uint64_t>(peak_mib * mib);
      cells.push_back(cell);
    }
    const Record record = test::record_of(cells);
    const Analysed study = analyse(record);
    const auto findings = findings_of(study, study.cells.back());
    const auto found =
        std::find_if(findings.begin(), findings.end(), [](const Finding& f) { return f.id == "memory-grows"; });
    return found == findings.end() ? std::optional<Figures>() : found->figures;
  };
  CHECK_FALSE(told({{1, 121.8}, {2, 126.6}}, 40));  // its own size, not its workers'
  CHECK_FALSE(told({{2, 400}}, 40));
  const auto grows = told({{1, 100}, {2, 300}, {4, 800}}, 90);
  REQUIRE(grows);
  CHECK(grows->get("bytes_per_worker") / mib == doctest::Approx(700.0 / 3).epsilon(0.01));
  CHECK(grows->get("least_bytes_per_worker") / mib == doctest::Approx(200));
  CHECK(grows->get("most_bytes_per_worker") / mib == doctest::Approx(250));
}

TEST_CASE("one at a time is told where a second processor was free, and not where others had it") {
  const auto told_with = [](double others) {
    auto baseline = test::cell_with("baseline", 1, std::vector<double>(8, 20));
    auto variant = test::cell_with("planted", 2, std::vector<double>(8, 20));
    for (Trial& trial : variant.trials) {
      trial.user_s = trial.wall_s;
      trial.system_s = 0;
      trial.most_threads = 2;
    }
    Record record = test::record_of({baseline, variant});
    record.commands = true;
    keep_busy(record, others);
    const Analysed study = analyse(record);
    const auto findings = findings_of(study, study.cells[1]);
    return std::any_of(findings.begin(), findings.end(), [](const Finding& f) { return f.id == "one-at-a-time"; });
  };
  CHECK(told_with(0.05));
  CHECK_FALSE(told_with(1.3));
}

TEST_CASE("programs that give way take nothing: what a cell lacked is no more than its own threads waited") {
  auto variant = test::cell_with("planted", 2, std::vector<double>(8, 10));
  Record record = test::record_of({test::cell_with("baseline", 1, std::vector<double>(8, 20)), variant});
  record.machine.limits.online_processors = record.machine.limits.affinity_processors = 2;
  BlockFacts block;
  block.wall_s = 100;
  block.other_cpu_s = 130;
  block.steal_s = 10;
  record.blocks = {block};
  CHECK(taken_processors(record, record.cells[1]) == doctest::Approx(1.3 + 0.1));
  CHECK(free_processors(record) == doctest::Approx(2 - 1.3 - 0.1));
  for (Trial& trial : record.cells[1].trials) trial.run_delay_s = 0.5;
  CHECK(taken_processors(record, record.cells[1]) == doctest::Approx(0.05 + 0.1));
  record.cells[1].workers = 1;  // 0.7 of a processor is left for it
  for (Trial& trial : record.cells[1].trials) trial.run_delay_s.reset();
  CHECK(taken_processors(record, record.cells[1]) == doctest::Approx(0.3 + 0.1));
}

TEST_CASE("on a machine that others keep busy no cause is drawn from how copies slow each other") {
  const auto losses_with = [](double others) {
    const LaneSums sums = sums_with({}, 2);
    Record record = record_with({sums, sums, sums}, 10, 14, 2);
    record.cells.push_back(test::cell_with("planted", 1, std::vector<double>(8, 14)));
    record.crowds = {{0, 1, std::vector<double>(8, 14)}, {0, 2, std::vector<double>(8, 20)}};
    keep_busy(record, others);
    const Analysed study = analyse(record);
    return losses_of(study, study.cells[1]);
  };
  CHECK(loss_of(losses_with(0.05), "work-inflation-machine") > 0);
  const auto busy = losses_with(1.3);
  CHECK(loss_of(busy, "work-inflation-machine") == 0);
  for (const Finding& f : busy) {
    if (f.id == "work-inflation-own") CHECK(f.or_else == "noise");
  }
}
