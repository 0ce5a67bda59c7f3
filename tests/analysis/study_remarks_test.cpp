// What is told of a study as a whole: its machine, its build, its baseline.
#include <doctest/doctest.h>

#include "antcrew/analysis/analysed.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using doctest::Approx;
using test::cell_with;
using test::record_of;

namespace {

Finding remark(const Analysed& study, const std::string& id) {
  for (const Finding& finding : study.remarks) {
    if (finding.id == id) return finding;
  }
  FAIL("no remark ", id);
  return {};
}

}  // namespace

TEST_CASE("bimodal timings, shared processors, means and quotas are told") {
  std::vector<double> humps;
  for (int r = 0; r < 20; ++r) humps.push_back(r % 3 == 0 ? 14 + 0.01 * r : 10 + 0.01 * r);
  Cell split = cell_with("split", 2, humps);
  for (std::size_t r = 0; r < split.trials.size(); ++r) {
    split.trials[r].times_s = {split.trials[r].wall_s, split.trials[r].wall_s, 4 * split.trials[r].wall_s};
    split.trials[r].processors = {1, r < 4 ? 1 : 0};
    split.trials[r].run_delay_s = 0.4 * split.trials[r].wall_s;
    split.trials[r].throttled_s = r < 5 ? 0.1 : 0.0;
  }
  Record record = record_of({cell_with("baseline", 1, humps), split});
  record.machine.limits.quota_cpus = 3;
  record.dropped_asleep = 2;
  const Analysed told = analyse(record);
  const Finding speeds = remark(told, "two-speeds");
  CHECK(speeds.of == &told.cells[0]);
  CHECK(speeds.figures.get("fast_s") == Approx(10.1).epsilon(0.01));
  CHECK(speeds.figures.get("slow_trials") == 7);
  CHECK(remark(told, "took-turns").figures == Figures{{"shared_trials", 4}, {"trials", 20}});
  CHECK(remark(told, "rare-long-calls").figures.get("speedup_by_means") == Approx(0.5).epsilon(0.01));
  CHECK(remark(told, "throttled").figures == Figures{{"quota_processors", 3}, {"held_trials", 5}, {"trials", 40}});
  CHECK(remark(told, "dropped-trials").figures.get("asleep") == 2);
}

TEST_CASE("a clock with steps as long as what it times is told, and one that suffices is not") {
  Record record = record_of(
      {cell_with("baseline", 1, std::vector<double>(9, 0.1)), cell_with("a", 2, std::vector<double>(9, 0.05))});
  record.machine.clock.resolution_ns = 4e6;
  const Finding coarse = remark(analyse(record), "coarse-clock");
  CHECK(coarse.figures.get("step_s") == Approx(0.004));
  CHECK(coarse.figures.get("timed_s") == Approx(0.05));
  record.cells[1].trials[3].times_s = std::vector<double>(5, 0.05);
  record.cells[1].trials[3].calls = 5;  // each timed by itself
  CHECK(remark(analyse(record), "coarse-clock").figures.get("timed_s") == Approx(0.05));
  record.machine.clock.resolution_ns = 4e5;
  for (const Finding& f : analyse(record).remarks) CHECK(f.id != "coarse-clock");
}

TEST_CASE("processors of different kinds are told, and on which of them the baseline ran") {
  Record record =
      record_of({cell_with("baseline", 1, std::vector<double>(9, 10)), cell_with("a", 2, std::vector<double>(9, 5))});
  record.machine.topology.kinds = {{0, {0, 1}}, {1, {2, 3}}};
  for (std::size_t r = 0; r < 9; ++r) record.cells[0].trials[r].processor = r < 7 ? 2 : 0;
  const Figures figures = remark(analyse(record), "unlike-processors").figures;
  CHECK(std::map<std::string, double>(figures.begin(), figures.end()) ==
        std::map<std::string, double>{{"processors_of_rank_0", 2},
                                      {"processors_of_rank_1", 2},
                                      {"baseline_trials_on_rank_0", 2},
                                      {"baseline_trials_on_rank_1", 7}});
}

TEST_CASE("one worker that did it all is told from work that waits, and from a machine that let nobody run") {
  const auto verdict_of = [](double cpu_share, double delay_share, double others_share, bool chooses = false) {
    Cell cell = cell_with("alone", 2, std::vector<double>(7, 0.1));
    cell.chooses_workers = chooses;
    for (Trial& trial : cell.trials) {
      trial.user_s = cpu_share * trial.wall_s;
      trial.run_delay_s = delay_share * trial.wall_s;
      trial.others_cpu_s = others_share * *trial.user_s;
    }
    const Record record = record_of({cell_with("baseline", 1, std::vector<double>(7, 0.1)), cell});
    return analyse(record).cells[1].verdict;
  };
  CHECK(verdict_of(1, 0, 0) == Verdict::idle_workers);
  CHECK(verdict_of(1, 0, 0, true) == Verdict::holds);  // it may, by its rule
  CHECK(verdict_of(1, 0, 0.3) == Verdict::holds);
  CHECK(verdict_of(0.2, 0, 0) == Verdict::holds);
  CHECK(verdict_of(0.3, 0.7, 0) == Verdict::idle_workers);
}

TEST_CASE(
    "a result computed when it is read, and a tail that grows with the size, are left work; one that does not, a "
    "remark") {
  Cell lazy = cell_with("lazy", 1, std::vector<double>(7, 1e-6));
  for (Trial& trial : lazy.trials) trial.compare_s = 0.12;
  const Record read = record_of({cell_with("baseline", 1, std::vector<double>(7, 0.1)), lazy});
  CHECK(analyse(read).cells[1].verdict == Verdict::left_work);
  CHECK(test::contains(analyse(read).cells[1].evidence, "computed only when it was read"));

  const auto with_tails = [](double small, double large) {
    Record record = record_of(
        {cell_with("baseline", 1, std::vector<double>(7, 0.01)), cell_with("pool", 2, std::vector<double>(7, 0.01)),
         cell_with("baseline", 1, std::vector<double>(7, 0.1)), cell_with("pool", 2, std::vector<double>(7, 0.1))});
    record.points.push_back(Point{10'000});
    record.cells[2].point = record.cells[3].point = 1;
    for (Trial& trial : record.cells[1].trials) trial.tail_s = trial.tail_cpu_s = small;
    for (Trial& trial : record.cells[3].trials) trial.tail_s = trial.tail_cpu_s = large;
    return record;
  };
  const Record grows = with_tails(0.005, 0.05);
  CHECK(analyse(grows).cells[3].verdict == Verdict::left_work);
  const Record constant = with_tails(0.05, 0.05);
  CHECK(analyse(constant).cells[3].verdict == Verdict::holds);
  CHECK(remark(analyse(constant), "busy-afterwards").figures.get("tail_s") == Approx(0.05));
}

TEST_CASE("an unoptimised build is warned about") {
  Record record = record_of({cell_with("baseline", 1, {1})});
  record.build.optimised = false;
  REQUIRE(analyse(record).remarks.size() == 1);
  CHECK(analyse(record).remarks[0].id == "unoptimised");
  CHECK(analyse(record).remarks[0].kind == Finding::Kind::meaning);
}

TEST_CASE("a first call of the baseline that was kept waiting is not one that it kept the answer of") {
  const auto verdict_with = [](std::vector<double> first_calls_s) {
    antcrew::record_layer::Record record = test::record_of({test::cell_with("baseline", 1, {18e-6, 18e-6})});
    for (const double first_s : first_calls_s) record.blocks.emplace_back().reference_s = first_s;
    return analyse(record).cells.front().verdict;
  };
  CHECK(verdict_with({1.16e-3}) != Verdict::remembered);
  CHECK(verdict_with({1.16e-3, 19e-6}) != Verdict::remembered);
  CHECK(verdict_with({1.16e-3, 1.2e-3}) == Verdict::remembered);
  CHECK(verdict_with({30e-3}) == Verdict::remembered);
}

TEST_CASE("an answer that is kept is found out also where the first call of a stand was timed along with few others") {
  const auto verdict_with = [](double settled_cpu_s) {
    Record record = record_of({cell_with("baseline", 1, {0.025, 0.025}), cell_with("memo", 1, {0.025, 0.025})});
    for (Cell& cell : record.cells) {
      const double settled_s = cell.kind == Cell::Kind::baseline ? 0.025 : settled_cpu_s;
      cell.cold_cpu_s = {0.025, 0.025};
      for (Trial& trial : cell.trials) {
        trial.first = true;
        trial.calls = 3;
        trial.times_s = {0.025, settled_s, settled_s};
        trial.user_s = (0.025 + 2 * settled_s) / 3;
        trial.system_s = 0;
      }
    }
    return analyse(record).cells.back().verdict;
  };
  CHECK(verdict_with(2e-6) == Verdict::remembered);
  CHECK(verdict_with(0.02) != Verdict::remembered);
}
