#include "antcrew/analysis/analysed.hpp"

#include <doctest/doctest.h>

#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
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

TEST_CASE("two workers keep no more than two processors busy, though some calls were kept waiting") {
  // Nine calls of 4 s and one of 14: CPU time is the mean of all, and so is the wall time that it is held against.
  Record record = record_of({cell_with("baseline", 1, {8, 8, 8}), cell_with("split", 2, {4, 4, 4})});
  for (Trial& trial : record.cells[1].trials) {
    trial.times_s.assign(9, 4);
    trial.times_s.push_back(14);
    trial.user_s = 9;
    trial.system_s = 1;
  }
  CHECK(*analyse(record).cells[1].busy_processors == Approx(2));
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
  REQUIRE(study.remarks.size() == 1);
  CHECK(study.remarks[0].id == "more-workers-than-processors");
  CHECK(study.remarks[0].figures.get("processors") == 4);
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
  CHECK(undecided.conclusion.answer == Conclusion::Kind::faster);
  REQUIRE(undecided.conclusion.level.size() == 1);
  CHECK(undecided.conclusion.level[0]->cell->variant == "b");
  const Record far = record_of({cell_with("baseline", 1, baseline), cell_with("c", 2, slower), cell_with("a", 2, a)});
  const Analysed decided = analyse(far);
  CHECK(decided.best[0].cell->cell->variant == "a");
  CHECK(decided.conclusion.answer == Conclusion::Kind::best);
  CHECK_FALSE(decided.conclusion.confirmed);
}

TEST_CASE("nothing is called faster when the interval of its speedup touches 1") {
  const Record record = record_of(
      {cell_with("baseline", 1, {10, 10, 10, 10, 10, 10, 10}), cell_with("split", 2, {9, 11, 9.5, 10.5, 9, 11, 9.2})});
  CHECK_FALSE(analyse(record).best[0].faster);
}

TEST_CASE("an interval that is too wide to act on and includes 1 is a verdict; far below 1 it is a finding") {
  const Record record = record_of(
      {cell_with("baseline", 1, {10, 10, 10, 10, 10, 10, 10}), cell_with("split", 2, {2, 20, 4, 12, 3, 15, 8})});
  CHECK(analyse(record).cells[1].verdict == Verdict::too_noisy);
  CHECK(analyse(record).best[0].cell == nullptr);
  CHECK(analyse(record).conclusion.answer == Conclusion::Kind::cannot_tell);
  const Record slow = record_of({cell_with("baseline", 1, std::vector<double>(7, 10)),
                                 cell_with("split", 2, {100, 450, 154, 160, 120, 300, 154})});
  CHECK(analyse(slow).cells[1].verdict == Verdict::holds);
  CHECK(analyse(slow).conclusion.answer == Conclusion::Kind::not_faster);
}

TEST_CASE("too few rounds are not ranked and no answer") {
  const Record record = record_of(
      {cell_with("baseline", 1, std::vector<double>(5, 10)), cell_with("split", 2, std::vector<double>(5, 5))});
  const Analysed study = analyse(record);
  CHECK(study.cells[1].verdict == Verdict::too_few_rounds);
  CHECK(study.best[0].cell == nullptr);
  CHECK(study.conclusion.answer == Conclusion::Kind::cannot_tell);
  // A variant that fails is a "no" all the same.
  Record failed = record;
  failed.cells[1].faults = {{Fault::Kind::crashed, 1, "signal 11"}};
  CHECK(analyse(failed).conclusion.answer == Conclusion::Kind::none_holds);
}

TEST_CASE("several rounds of one generation count once, and a cell is paired with the nearest baseline in its round") {
  Cell baseline = cell_with("baseline", 1, {});
  Cell split = cell_with("split", 2, {});
  const auto trial = [](int round, int generation, double start_s, double wall_s) {
    Trial made;
    made.round = round;
    made.generation = generation;
    made.start_s = start_s;
    made.wall_s = wall_s;
    return made;
  };
  for (int g = 1; g <= 7; ++g) {
    for (int k = 0; k < 3; ++k) {
      const int round = 3 * (g - 1) + k + 1;
      const double start = 10.0 * round;
      baseline.trials.push_back(trial(round, g, start, 100));  // far away from the other one in time
      baseline.trials.push_back(trial(round, g, start + 5, 10));
      split.trials.push_back(trial(round, g, start + 4, k == 0 ? 1.0 : 5.0));
    }
  }
  const Record record = record_of({baseline, split});
  const CellFigures figures = analyse(record).cells[1];
  CHECK(figures.speedup->count == 7);
  CHECK(figures.speedup->median == Approx(2));
  CHECK(figures.speedup->low == Approx(2));
}

TEST_CASE("what is wrong somewhere is praised nowhere") {
  Record record =
      record_of({cell_with("baseline", 1, std::vector<double>(9, 10)), cell_with("racy", 1, std::vector<double>(9, 2)),
                 cell_with("racy", 2, {1, 1, 1}), cell_with("sound", 1, std::vector<double>(9, 9))});
  record.cells[2].faults = {{Fault::Kind::wrong_answer, 1, "3 of 9 values differ"}};
  record.cells[2].trials[0].agreed = false;
  const Analysed study = analyse(record);
  CHECK(study.cells[1].verdict == Verdict::holds);
  REQUIRE(study.conclusion.leader != nullptr);
  CHECK(study.conclusion.leader->cell->variant == "sound");
  REQUIRE(study.conclusion.passed_over != nullptr);
  CHECK(study.conclusion.passed_over->cell->variant == "racy");
}

namespace {

// Explored: a at 2.0, b at 1.96, c at 1.2. Tried again: a and b, with these times.
Record confirmed_record(const std::vector<double>& a, const std::vector<double>& b) {
  Record record = record_of({cell_with("baseline", 1, std::vector<double>(11, 10)),
                             cell_with("a", 2, {5, 5.3, 4.8, 5, 5.3, 4.8, 5, 5.3, 4.8, 5, 5}),
                             cell_with("b", 2, {5.2, 5, 5.1, 4.9, 5.2, 5.1, 5.2, 5, 5.1, 5.2, 4.9}),
                             cell_with("c", 2, std::vector<double>(11, 8.3))});
  record.confirmations = {{0, 1, {2}, static_cast<int>(a.size())}};
  const auto again = [&](std::size_t cell, std::size_t round, double wall_s) {
    Trial trial;
    trial.round = trial.generation = static_cast<int>(round + 1);
    trial.confirming = 1;
    trial.wall_s = wall_s;
    record.cells[cell].trials.push_back(trial);
  };
  for (std::size_t round = 0; round < a.size(); ++round) {
    again(0, round, 10);
    again(1, round, a[round]);
    again(2, round, b[round]);
  }
  return record;
}

}  // namespace

TEST_CASE("a confirmed headline rests on the fresh rounds alone") {
  const Record record = confirmed_record({5.5, 5.6, 5.4, 5.5, 5.6, 5.4, 5.5, 5.6, 5.4}, std::vector<double>(9, 6));
  const Analysed study = analyse(record);
  CHECK(study.conclusion.answer == Conclusion::Kind::best);
  CHECK(study.conclusion.confirmed);
  CHECK(study.conclusion.speedup->median == Approx(10 / 5.5));
  CHECK(study.cells[1].confirmed);
  CHECK(study.cells[1].speedup->count == 9);
  CHECK(study.cells[1].explored->median == Approx(2));
  CHECK(study.cells[1].time_s->median == Approx(5.5));
  CHECK_FALSE(study.cells[3].confirmed);
  CHECK(study.cells[3].speedup->count == 11);
}

TEST_CASE("a rival that proves better takes the confirmation away; one that does not is level") {
  const Record worse = confirmed_record(std::vector<double>(9, 6), {5.5, 5.6, 5.4, 5.5, 5.6, 5.4, 5.5, 5.6, 5.4});
  const Analysed lost = analyse(worse);
  CHECK(lost.conclusion.answer == Conclusion::Kind::not_confirmed);
  REQUIRE(lost.conclusion.better != nullptr);
  CHECK(lost.conclusion.better->cell->variant == "b");
  CHECK(lost.conclusion.better_by->median == Approx(6 / 5.5));
  CHECK(lost.conclusion.better_by->low > 1);
  const Record same =
      confirmed_record({5, 5.2, 5.1, 5, 5.2, 5.1, 5, 5.2, 5.1}, {5.1, 5, 5.2, 5.1, 5, 5.2, 5.1, 5, 5.2});
  const Analysed level = analyse(same);
  CHECK(level.conclusion.answer == Conclusion::Kind::faster);
  REQUIRE(level.conclusion.level.size() == 1);
  CHECK(level.conclusion.level[0]->cell->variant == "b");
}

TEST_CASE("a leader that falls behind what others had before is not confirmed, though they were not tried again") {
  // c was far behind with 1.2; in fresh rounds both that were tried again come to some 1.05.
  const Record record = confirmed_record({9.5, 9.6, 9.4, 9.5, 9.6, 9.4, 9.5, 9.6, 9.4}, std::vector<double>(9, 9.6));
  const Analysed study = analyse(record);
  CHECK(study.conclusion.answer == Conclusion::Kind::not_confirmed);
  REQUIRE(study.conclusion.better != nullptr);
  CHECK(study.conclusion.better->cell->variant == "c");
  CHECK_FALSE(study.conclusion.better_by.has_value());
  // Where their intervals overlap, but its middle is the higher one, they are not told apart; with the lower one, it
  // stays behind.
  const Record wide = confirmed_record({7.0, 9.6, 8.6, 8.7, 8.6, 8.7, 8.6, 9.5, 7.2}, std::vector<double>(9, 9.6));
  const Analysed level = analyse(wide);
  CHECK(level.conclusion.answer == Conclusion::Kind::faster);
  REQUIRE(level.conclusion.level.size() == 1);
  CHECK(level.conclusion.level.front()->cell->variant == "c");
  const Record near = confirmed_record({8.2, 8.4, 8.3, 8.2, 8.4, 8.3, 8.2, 8.4, 8.3}, std::vector<double>(9, 8.9));
  CHECK(analyse(near).conclusion.answer == Conclusion::Kind::best);
}

TEST_CASE("a confirmation that was cut short before nine rounds confirms nothing") {
  Record record = confirmed_record(std::vector<double>(8, 5.5), std::vector<double>(8, 6));
  record.confirmations[0].rounds = 20;
  const Analysed study = analyse(record);
  CHECK_FALSE(study.conclusion.confirmed);
  CHECK(study.conclusion.speedup->median == Approx(2));
}

TEST_CASE("an apparent headline pays for the number of cells that it was chosen from") {
  std::vector<Cell> cells{cell_with("baseline", 1, std::vector<double>(9, 10))};
  const std::vector<double> a = {9.99, 9, 9.2, 9, 9.2, 9, 9.2, 9, 9.2};
  cells.push_back(cell_with("a", 2, a));
  const Record few = record_of(cells);
  CHECK(analyse(few).conclusion.answer == Conclusion::Kind::best);
  for (int more = 0; more < 10; ++more)
    cells.push_back(cell_with("other" + std::to_string(more), 2, std::vector<double>(9, 10)));
  const Record record = record_of(cells);
  const Analysed many = analyse(record);
  CHECK(many.conclusion.leader->cell->variant == "a");
  CHECK(many.conclusion.speedup->low < many.cells[1].speedup->low);
}

TEST_CASE("the serial fraction is over the own time with one worker where that was run, with its interval") {
  const Record record = record_of({cell_with("baseline", 1, std::vector<double>(7, 10)),
                                   cell_with("split", 1, {12, 12.1, 11.9, 12, 12, 12.1, 11.9}),
                                   cell_with("split", 4, {4, 4.1, 3.9, 4, 4, 4.1, 3.9}),
                                   cell_with("alone", 4, std::vector<double>(7, 4))});
  const Analysed study = analyse(record);
  const CellFigures& split = study.cells[2];
  CHECK(split.serial_fraction_of_itself);
  CHECK(*split.serial_fraction == Approx((1.0 / 3 - 0.25) / 0.75).epsilon(0.02));
  REQUIRE(split.serial_fraction_bounds);
  CHECK(split.serial_fraction_bounds->low <= *split.serial_fraction);
  CHECK(split.serial_fraction_bounds->high >= *split.serial_fraction);
  CHECK_FALSE(study.cells[3].serial_fraction_of_itself);
  CHECK(*study.cells[3].serial_fraction == Approx((1 / 2.5 - 0.25) / 0.75));
  CHECK(split.efficiency_bounds->median == Approx(*split.efficiency));
  CHECK(*split.worker_s_an_item == Approx(4 * 4.0 / 1000));
  CHECK_FALSE(split.work_and_span);  // nobody saw its longest chain
}

TEST_CASE("work and span bound the time: Brent's bounds from a metered call") {
  Record record = record_of(
      {cell_with("baseline", 1, std::vector<double>(7, 10)), cell_with("split", 4, std::vector<double>(7, 4))});
  record.cells[1].metered.resize(1);
  record.cells[1].metered[0].critical_path_s = 2;
  const Analysed study = analyse(record);
  REQUIRE(study.cells[1].work_and_span);
  const WorkAndSpan& found = *study.cells[1].work_and_span;
  CHECK(found.parallelism == Approx(5));
  CHECK(found.least_s == Approx(2.5));
  CHECK(found.most_s == Approx(4));  // (10 - 2) / 4 + 2
}
