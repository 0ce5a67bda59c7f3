// A faulty cell does not use up what the others need: hangs, wrong answers, limits, what a round is taken to cost, and
// grids that are too large.
#include <doctest/doctest.h>

#include <algorithm>
#include <sstream>

#include "antcrew/analysis/conclusion.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/study/host.hpp"
#include "fake_host.hpp"
#include "support/command.hpp"

namespace {

using namespace antcrew;
using namespace antcrew::layers;

int trials_of(const Record& record, const std::string& variant, int workers) {
  for (const Cell& cell : record.cells) {
    if (cell.variant == variant && cell.workers == workers) return static_cast<int>(cell.trials.size());
  }
  return -1;
}

const CellFigures& figures(const Analysed& study, const std::string& variant, int workers) {
  for (const CellFigures& f : study.cells) {
    if (f.cell->variant == variant && f.cell->workers == workers) return f;
  }
  throw std::runtime_error("no cell " + variant);
}

// The call is waited for until its limit, and nothing is timed.
void hang(test::FakeClock& clock, Visit& visit, int round, double limit_s) {
  clock.advance(limit_s);
  visit.seen.trials.clear();
  visit.seen.faults.push_back({Fault::Kind::timed_out, round, "no end", {}});
  visit.over = true;
}

}  // namespace

TEST_CASE("the limit of a call: thirty times the baseline, no more than a twentieth of the budget, never too little") {
  HostLimits limits;
  limits.budget_s = 60;
  CHECK(limits.of_call(0.01) == doctest::Approx(3));
  CHECK(limits.of_call(0.5) == doctest::Approx(3));
  CHECK(limits.of_call(5) == doctest::Approx(15));
  limits.budget_s = 600;
  CHECK(limits.of_call(0.5) == doctest::Approx(15));
  CHECK(limits.of_call(5) == doctest::Approx(30));
  limits.budget_s = 0;
  CHECK(limits.of_call(0.5) == doctest::Approx(15));
  CHECK(limits.of_call(0.001) == doctest::Approx(3));
  limits.call_s = 7;
  CHECK(limits.of_call(100) == doctest::Approx(7));
  CHECK(limits.of_call_in_words(1) == "as asked");
}

TEST_CASE("three of seventeen variants hang, and the others are told") {
  test::Theatre theatre(0.02);
  const test::FakeStudy study(17, {2});
  theatre.host.meddle = [&](std::size_t, int round, Visit& visit) {
    const int variant = theatre.host.asked.back().spec.variant;
    if (variant == 2 || variant == 7 || variant == 11) hang(theatre.clock, visit, round, 3);
  };
  Plan plan;
  plan.budget_s = 60;
  plan.meter = Metering::none;
  const Record record = test::run_fake(theatre.host, theatre.clock, study, plan, theatre.hooks);
  const Analysed told = analyse(record);
  int hung = 0, held = 0;
  for (const CellFigures& f : told.cells) {
    hung += f.verdict == Verdict::timed_out ? 1 : 0;
    held += f.cell->kind == Cell::Kind::variant && f.verdict == Verdict::holds ? 1 : 0;
  }
  CHECK(hung == 3);
  CHECK(held == 14);
}

TEST_CASE("a variant that hangs is waited for for a tenth of the budget in all, and that is said of its other cells") {
  test::Theatre theatre(0.02);
  const test::FakeStudy study(2, {1, 2, 3, 4, 5, 6, 7, 8});
  int waited = 0;
  theatre.host.meddle = [&](std::size_t cell, int round, Visit& visit) {
    if (cell < 1 || cell > 8) return;  // the first variant's
    ++waited;
    hang(theatre.clock, visit, round, 3);
  };
  Plan plan;
  plan.budget_s = 60;
  plan.confirm = false;
  plan.meter = Metering::none;
  const Record record = test::run_fake(theatre.host, theatre.clock, study, plan, theatre.hooks);
  CHECK(waited == 2);
  const Analysed told = analyse(record);
  int said = 0;
  for (const CellFigures& f : told.cells) said += test::contains(f.evidence, "not tried: it hung with ") ? 1 : 0;
  CHECK(said == 6);
  CHECK(figures(told, "v1", 8).verdict == Verdict::holds);
}

TEST_CASE("two wrong answers end a cell; the baseline's time goes to the others") {
  test::Theatre theatre(0.02);
  const test::FakeStudy study(3, {2});
  theatre.host.meddle = [&](std::size_t cell, int round, Visit& visit) {
    if (cell != 1) return;
    visit.seen.trials.front().agreed = false;
    visit.seen.faults.push_back({Fault::Kind::wrong_answer, round, "differs", {}});
  };
  Plan plan;
  plan.rounds = 9;
  plan.confirm = false;
  plan.meter = Metering::none;
  const Record record = test::run_fake(theatre.host, theatre.clock, study, plan, theatre.hooks);
  CHECK(trials_of(record, "v0", 2) == 2);
  CHECK(trials_of(record, "v1", 2) == 9);
  CHECK(analyse(record).cells[1].verdict == Verdict::wrong_answer);
}

TEST_CASE("a grid of more cells than anybody waits for is refused with their number, before it is made") {
  test::Theatre theatre;
  std::vector<std::size_t> sizes;
  for (std::size_t k = 1; k <= 20'000; ++k) sizes.push_back(k);
  const test::FakeStudy study(3, {1, 2}, sizes);
  Plan plan;
  CHECK_THROWS_WITH_AS(test::run_fake(theatre.host, theatre.clock, study, plan, theatre.hooks),
                       doctest::Contains("20000 points with 7 cells each: more than the 100000 cells"), Error);
  CHECK(theatre.host.opened == 0);
}

TEST_CASE(
    "what crashed, threw or ran out of memory is tried once more at the end, and its verdict stays; a hang is not") {
  for (const Fault::Kind kind :
       {Fault::Kind::crashed, Fault::Kind::threw, Fault::Kind::out_of_memory, Fault::Kind::timed_out}) {
    for (const bool always : {true, false}) {
      CAPTURE(name_of(kind));
      CAPTURE(always);
      test::Theatre theatre(0.02);
      const test::FakeStudy study(3, {2});
      int visits = 0;
      std::size_t asked_when_ended = 0;
      theatre.host.meddle = [&](std::size_t cell, int round, Visit& visit) {
        if (cell != 1) return;
        ++visits;
        if (visits != 3 && !(always && visits > 3)) return;
        visit.seen.trials.clear();
        visit.seen.faults.push_back({kind, round, "it is gone", {}});
        visit.over = true;
        if (asked_when_ended == 0) asked_when_ended = theatre.host.asked.size();
      };
      Plan plan;
      plan.rounds = 9;
      plan.confirm = false;
      plan.meter = Metering::none;
      const Record record = test::run_fake(theatre.host, theatre.clock, study, plan, theatre.hooks);
      CHECK(trials_of(record, "v0", 2) == 2);  // the last try is not timed
      CHECK(trials_of(record, "v1", 2) == 9);
      const CellFigures f = analyse(record).cells[1];
      const bool hang = kind == Fault::Kind::timed_out;
      CHECK(visits == (hang ? 3 : 4));
      CHECK(f.evidence == std::string(hang ? "" : always ? "in 2 of 4 tries: " : "in 1 of 4 tries: ") + "it is gone");
      CHECK(f.verdict < Verdict::wrong_answer);
      if (hang) continue;
      // At the end: after all others.
      CHECK(theatre.host.asked.size() > asked_when_ended + 10);
      CHECK(theatre.host.asked.back().cell == 1);
      // Gone on with, it is not tried a third time.
      test::Theatre later(0.02);
      Plan more = plan;
      more.rounds = 12;
      const Record resumed = test::run_fake(later.host, later.clock, study, more, later.hooks, &record);
      CHECK(trials_of(resumed, "v0", 2) == 2);
      CHECK(std::none_of(later.host.asked.begin(), later.host.asked.end(),
                         [](const auto& one) { return one.cell == 1; }));
      CHECK(resumed.cells[1].faults.size() == record.cells[1].faults.size());
    }
  }
}

TEST_CASE("every size gets its least rounds before any gets more, the cheap ones first") {
  // 4, 40 and 400 ms a call: the dear one alone would take the whole budget.
  test::Theatre theatre;
  const test::FakeStudy study(2, {1, 2}, {1000, 10, 100});
  theatre.host.call_s = [&](const CellSpec& spec, std::size_t, int, bool) {
    const double faster = spec.baseline() ? 1 : spec.workers == 1 ? 0.97 : 1.6;
    return 0.0004 * static_cast<double>(theatre.host.asked.back().point_size) / faster;
  };
  Plan plan = test::staged(40);
  plan.meter = Metering::none;
  const Record record = test::run_fake(theatre.host, theatre.clock, study, plan, theatre.hooks);
  CAPTURE(theatre.all_notes());
  std::vector<std::size_t> sizes;
  for (const auto& one : theatre.host.asked) {
    if (sizes.empty() || sizes.back() != one.point_size) sizes.push_back(one.point_size);
  }
  REQUIRE(sizes.size() >= 3);
  CHECK(sizes[0] == 10);
  CHECK(sizes[1] == 100);
  CHECK(sizes[2] == 1000);
  for (const CellFigures& f : analyse(record).cells) {
    CAPTURE(record.points[f.cell->point].size);
    CHECK(f.cell->trials.size() >= 6);
  }
  CHECK(record.measured_s <= 1.15 * 40);
}

TEST_CASE("a budget that is too small gets one advice, more than was given, that does") {
  for (const double budget_s : {3.0, 8.0, 20.0, 40.0}) {
    CAPTURE(budget_s);
    const test::FakeStudy study(2, {1, 2}, {1000, 10, 100});
    const auto run_with_budget = [&](double seconds, test::Theatre& theatre) {
      theatre.host.call_s = [&theatre](const CellSpec& spec, std::size_t, int, bool) {
        const double faster = spec.baseline() ? 1 : spec.workers == 1 ? 0.97 : 1.6;
        return 0.001 * static_cast<double>(theatre.host.asked.back().point_size) / faster;
      };
      Plan plan = test::staged(seconds);
      plan.meter = Metering::none;
      return test::run_fake(theatre.host, theatre.clock, study, plan, theatre.hooks);
    };
    test::Theatre theatre;
    const Record record = run_with_budget(budget_s, theatre);
    CAPTURE(theatre.all_notes());
    REQUIRE_FALSE(record.left_out.empty());
    const double advised_s = advised_budget_s(record);
    CHECK(advised_s >= 1.1 * budget_s);
    CHECK_FALSE(test::contains(theatre.all_notes(), "--budget " + std::to_string(static_cast<int>(budget_s)) + ")"));
    // Small sizes are there, whatever the dear one cost.
    for (const Cell& cell : record.cells) {
      if (record.points[cell.point].size == 10) CHECK(cell.trials.size() >= 6);
    }
    test::Theatre again;
    const Record settled = run_with_budget(1.1 * advised_s, again);
    CAPTURE(again.all_notes());
    for (const LeftOut& left : settled.left_out) CHECK(left.what >= LeftOut::What::confirming);
  }
}
