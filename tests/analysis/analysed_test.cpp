#include "antcrew/analysis/analysed.hpp"

#include <doctest/doctest.h>

#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using doctest::Approx;
using test::cell_with;
using test::record_of;

TEST_CASE("speedup is the median of the per-round ratios, so drift that hits all alike cancels") {
  // The machine becomes twice as slow half-way; the ratio is 2 in every round.
  const Record record =
      record_of({cell_with("baseline", 1, {8, 8, 8, 8, 16, 16, 16}), cell_with("split", 2, {4, 4, 4, 4, 8, 8, 8})});
  const Analysed study = analyse(record);
  const CellFigures& split = study.cells[1];
  CHECK(split.verdict == Verdict::holds);
  CHECK(split.speedup->median == Approx(2));
  CHECK(split.speedup->low == Approx(2));
  CHECK(split.speedup->high == Approx(2));
  CHECK(split.speedup->claimed);
  CHECK(*split.efficiency == Approx(1));
  CHECK(*split.overhead_s == Approx(0));
  CHECK(*split.relative_overhead == Approx(0));
  CHECK(*split.serial_fraction == Approx(0));
  CHECK(*split.busy_processors == Approx(2));
}

TEST_CASE("speedup against itself, penalty, and efficiency per processor when crowded") {
  const Record record =
      record_of({cell_with("baseline", 1, std::vector<double>(7, 10)),
                 cell_with("split", 1, std::vector<double>(7, 12)), cell_with("split", 8, std::vector<double>(7, 3))});
  const Analysed study = analyse(record);
  CHECK(*study.cells[1].one_worker_penalty == Approx(0.2));
  CHECK(study.cells[2].self_speedup->median == Approx(4));
  CHECK(study.cells[2].speedup->median == Approx(10.0 / 3));
  CHECK(*study.cells[2].efficiency == Approx(10.0 / 24));
  CHECK(*study.cells[2].processor_efficiency == Approx(10.0 / 12));
  CHECK_FALSE(study.cells[2].serial_fraction.has_value());  // 8 workers on 4 processors
  CHECK(*study.cells[2].relative_overhead == Approx(1.4));
  CHECK(*study.cells[2].overhead_s == Approx(14));
  REQUIRE(study.warnings.size() == 1);
  CHECK(test::contains(study.warnings[0], "more workers than the 4 usable processors"));
}

TEST_CASE("a wrong answer has a verdict and no speedup, however fast it was") {
  Cell fast = cell_with("split", 2, std::vector<double>(7, 0.001));
  for (int r = 0; r < 2; ++r) {
    fast.trials[static_cast<std::size_t>(r)].agreed = false;
    fast.faults.push_back({Fault::Kind::wrong_answer, r + 1, "expected 3, got 4 (difference 1)"});
  }
  const Record record = record_of({cell_with("baseline", 1, std::vector<double>(7, 10)), fast});
  const Analysed study = analyse(record);
  CHECK(study.cells[1].verdict == Verdict::wrong_answer);
  CHECK_FALSE(study.cells[1].speedup.has_value());
  CHECK(study.cells[1].evidence == "in 2 of 7 trials, right in the others: expected 3, got 4 (difference 1)");
  CHECK(study.best[0].cell == nullptr);
}

TEST_CASE("an exception outranks a wrong answer; a cell without trials says so") {
  Cell thrown = cell_with("split", 2, {1});
  thrown.faults = {{Fault::Kind::wrong_answer, 1, "differs"}, {Fault::Kind::threw, 2, "std::bad_alloc: no"}};
  const Record record =
      record_of({cell_with("baseline", 1, std::vector<double>(7, 10)), thrown, cell_with("later", 2, {})});
  const Analysed study = analyse(record);
  CHECK(study.cells[1].verdict == Verdict::threw);
  CHECK(study.cells[1].evidence == "std::bad_alloc: no");
  CHECK(study.cells[2].verdict == Verdict::not_measured);
}

TEST_CASE("best is claimed only when the paired interval beats the next") {
  const std::vector<double> baseline(9, 10);
  const std::vector<double> a = {5.0, 5.1, 4.9, 5.0, 5.1, 4.9, 5.0, 5.1, 4.9};
  const std::vector<double> b = {5.1, 5.0, 5.0, 4.9, 5.2, 5.0, 4.9, 5.2, 5.0};
  const std::vector<double> slower = {6.0, 6.1, 5.9, 6.0, 6.1, 5.9, 6.0, 6.1, 5.9};
  const Record near = record_of({cell_with("baseline", 1, baseline), cell_with("a", 2, a), cell_with("b", 2, b)});
  const Analysed undecided = analyse(near);
  CHECK(undecided.best[0].faster);
  CHECK_FALSE(undecided.best[0].beats_next);
  const Record far = record_of({cell_with("baseline", 1, baseline), cell_with("c", 2, slower), cell_with("a", 2, a)});
  const Analysed decided = analyse(far);
  CHECK(decided.best[0].cell->cell->variant == "a");
  CHECK(decided.best[0].beats_next);
}

TEST_CASE("nothing is called faster when the interval of its speedup touches 1") {
  const Record record = record_of(
      {cell_with("baseline", 1, {10, 10, 10, 10, 10, 10, 10}), cell_with("split", 2, {9, 11, 9.5, 10.5, 9, 11, 9.2})});
  CHECK_FALSE(analyse(record).best[0].faster);
}

TEST_CASE("an interval too wide to act on is a verdict") {
  const Record record = record_of(
      {cell_with("baseline", 1, {10, 10, 10, 10, 10, 10, 10}), cell_with("split", 2, {2, 20, 4, 12, 3, 15, 8})});
  CHECK(analyse(record).cells[1].verdict == Verdict::too_noisy);
  CHECK(analyse(record).best[0].cell == nullptr);
}

TEST_CASE("one worker that did it all is told from work that waits, and from a machine that let nobody run") {
  const auto verdict_of = [](double cpu_share, double delay_share, double others_share) {
    Cell cell = cell_with("alone", 2, std::vector<double>(7, 0.1));
    for (Trial& trial : cell.trials) {
      trial.user_s = cpu_share * trial.wall_s;
      trial.run_delay_s = delay_share * trial.wall_s;
      trial.others_cpu_s = others_share * trial.user_s;
    }
    const Record record = record_of({cell_with("baseline", 1, std::vector<double>(7, 0.1)), cell});
    return analyse(record).cells[1].verdict;
  };
  CHECK(verdict_of(1, 0, 0) == Verdict::idle_workers);
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
  REQUIRE_FALSE(analyse(constant).warnings.empty());
  CHECK(test::contains(analyse(constant).warnings.back(), "so they spin rather than work"));
}

TEST_CASE("an unoptimised build is warned about") {
  Record record = record_of({cell_with("baseline", 1, {1})});
  record.build.optimised = false;
  REQUIRE(analyse(record).warnings.size() == 1);
  CHECK(test::contains(analyse(record).warnings[0], "without optimisation"));
}
