// The budget of a study as a promise, on a host that only pretends and a clock that is moved by hand.
#include <doctest/doctest.h>

#include <algorithm>
#include <set>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/pairing.hpp"
#include "study/fake_host.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::FakeStudy;
using test::run_fake;
using test::staged;
using test::Theatre;

TEST_CASE("the budget is kept within 15 % or one visit of each cell, and what it leaves out is said with a remedy") {
  const FakeStudy small(1, {1, 2});
  const FakeStudy large(5, {1, 2, 4, 8}, {100, 1000, 10'000});
  for (const FakeStudy* study : {&small, &large}) {
    for (const double call_s : {1e-5, 1e-3, 0.1, 1.0, 5.0, 30.0}) {
      for (const double budget_s : {1.0, 10.0, 40.0, 300.0}) {
        CAPTURE(call_s);
        CAPTURE(budget_s);
        Theatre theatre(call_s);
        theatre.host.input_s = call_s;
        theatre.host.visit_s = [](double call) { return std::max(0.003, call < 0.5 ? 3 * call : call); };
        const Record record = run_fake(theatre.host, theatre.clock, *study, staged(budget_s), theatre.hooks);
        const double cells = study == &small ? 3 : 21;
        const double minimal_round_s =
            theatre.host.input_s + cells * (theatre.host.renewing_s + theatre.host.visit_s(call_s));
        CHECK(record.measured_s <= std::max(1.15 * budget_s, budget_s + minimal_round_s));
        const Conclusion::Kind answer = analyse(record).conclusion.answer;
        if (answer == Conclusion::Kind::cannot_tell) CHECK_FALSE(record.left_out.empty());
        CHECK(theatre.notes.size() >= record.left_out.size());
        for (const LeftOut& left : record.left_out) CHECK(left.needed_s > budget_s);
        // The remedy is one.
        double needed = 0;
        for (const LeftOut& left : record.left_out) needed = std::max(needed, left.needed_s);
        if (answer != Conclusion::Kind::cannot_tell || record.cells[1].trials.empty()) continue;
        CAPTURE(needed);
        Theatre again(call_s);
        again.host.input_s = call_s;
        again.host.visit_s = theatre.host.visit_s;
        const Record settled = run_fake(again.host, again.clock, *study, staged(needed * 1.3));
        CHECK(analyse(settled).conclusion.answer != Conclusion::Kind::cannot_tell);
      }
    }
  }
}

TEST_CASE("what is left out is said as soon as it is known") {
  Theatre theatre(1.0);
  theatre.host.visit_s = [](double call) { return call; };
  std::vector<double> told_at;
  theatre.hooks.on_left_out = [&](const std::string& note) {
    theatre.notes.push_back(note);
    told_at.push_back(theatre.clock.s() - 1);
  };
  const FakeStudy study(2, {1, 2}, {100, 1000});
  const Record record = run_fake(theatre.host, theatre.clock, study, staged(14), theatre.hooks);
  CAPTURE(theatre.all_notes());
  REQUIRE(theatre.notes.size() >= 2);
  CHECK(test::contains(theatre.all_notes(), "no time to confirm the best in fresh rounds; a budget of about "));
  CHECK(test::contains(theatre.all_notes(), "too few for an interval: a round takes 4."));
  CHECK(told_at[0] < 6);  // after the first round
  CHECK(told_at[1] < 10);
  CHECK(advised_budget_s(record) > 60);  // with what the larger size needs
  CHECK(analyse(record).conclusion.answer == Conclusion::Kind::cannot_tell);
}

TEST_CASE("input and reference that take the whole budget: said, and nothing tried") {
  Theatre theatre;
  theatre.host.input_s = 50;
  const FakeStudy study(1, {2});
  const Record record = run_fake(theatre.host, theatre.clock, study, staged(40), theatre.hooks);
  CHECK(theatre.host.asked.empty());
  CHECK(test::contains(theatre.all_notes(),
                       "making the input and the reference answer alone took 50.0 s, more than the budget of 40 s"));
  CHECK(analyse(record).conclusion.answer == Conclusion::Kind::cannot_tell);
}

TEST_CASE("a round that takes longer than the budget gets ahead from run to run, no cell twice in a round") {
  const FakeStudy study(3, {1, 2});  // six cells and the baseline, of 10 s and less
  Record record;
  std::size_t before = 0;
  for (int runs = 1; runs <= 12; ++runs) {
    CAPTURE(runs);
    Theatre theatre(10.0);
    theatre.host.input_s = 1;
    theatre.host.visit_s = [](double call) { return call; };
    record = run_fake(theatre.host, theatre.clock, study, staged(25), theatre.hooks, runs == 1 ? nullptr : &record);
    std::size_t trials = 0;
    for (const Cell& cell : record.cells) {
      std::set<int> rounds;
      for (const Trial& trial : cell.trials) {
        const bool twice = !rounds.insert(trial.round).second;
        if (cell.kind != Cell::Kind::baseline) CHECK_FALSE(twice);
      }
      if (cell.kind != Cell::Kind::baseline) trials += cell.trials.size();
    }
    CHECK(trials > before);
    before = trials;
    CHECK(record.measured_s < 40.0 * runs);
  }
  // Cells are never more than a round apart.
  std::size_t least = 1000, most = 0;
  for (const Cell& cell : record.cells) {
    if (cell.kind == Cell::Kind::baseline) continue;
    least = std::min(least, cell.trials.size());
    most = std::max(most, cell.trials.size());
  }
  CHECK(most - least <= 1);
  CHECK(least >= 1);
  // Each cell is compared with a baseline of the same run, not of yesterday's.
  for (const Cell& cell : record.cells) {
    if (cell.kind == Cell::Kind::baseline) continue;
    for (const auto& [generation, ratio] : ratios_of(record.cells[0], cell, exploring)) CHECK(ratio > 0.9);
  }
}

TEST_CASE(
    "crowds: at every point, one of each a generation, in a small share of the time; what does not fit is not asked "
    "again") {
  Theatre theatre(0.01);
  const FakeStudy study(1, {1, 2, 4}, {100, 1000});
  std::vector<int> asked;
  theatre.host.crowd_s = [&](int copies) -> std::optional<double> {
    asked.push_back(copies);
    theatre.clock.advance(0.01);
    if (copies == 4) return std::nullopt;
    return 0.01 * copies;
  };
  const Record record = run_fake(theatre.host, theatre.clock, study, staged(0));
  CHECK(std::count(asked.begin(), asked.end(), 4) == 2);  // once at each point
  REQUIRE(record.crowds.size() == 4);
  double spent = 0;
  for (const CrowdFacts& crowd : record.crowds) {
    CHECK(crowd.copies <= 2);
    CHECK(crowd.time_s.size() == record.crowds[0].time_s.size());
    CHECK(crowd.time_s.size() >= 2);
    spent += 0.01 * static_cast<double>(crowd.time_s.size());
  }
  CHECK(spent < 0.06 * record.measured_s);
  for (const CrowdFigure& figure : analyse(record).crowds) CHECK(figure.slowdown.median == doctest::Approx(2));
}
