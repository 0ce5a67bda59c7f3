// What is tried when, on a host that only pretends and a clock that is moved by hand.
#include <doctest/doctest.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/pairing.hpp"
#include "study/fake_host.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::FakeClock;
using test::FakeHost;
using test::FakeStudy;
using test::run_fake;
using test::staged;
using test::Theatre;

namespace {

int count_of(const std::vector<FakeHost::Asked>& asked, int round, bool baseline) {
  return static_cast<int>(std::count_if(asked.begin(), asked.end(), [&](const FakeHost::Asked& one) {
    return one.order.round == round && (one.spec.baseline()) == baseline;
  }));
}

std::size_t confirming(const Cell& cell) {
  return static_cast<std::size_t>(
      std::count_if(cell.trials.begin(), cell.trials.end(), [](const Trial& trial) { return trial.confirming > 0; }));
}

}  // namespace

TEST_CASE(
    "a round visits every cell once, in random order, the baseline once for six cells; the first as wanted most") {
  Theatre theatre;
  const FakeStudy study(3, {1, 2, 4, 8});
  Plan plan = staged(0);
  plan.rounds = 5;
  run_fake(theatre.host, theatre.clock, study, plan);
  const auto& asked = theatre.host.asked;
  for (int round = 1; round <= 5; ++round) {
    CAPTURE(round);
    CHECK(count_of(asked, round, false) == 12);
    CHECK(count_of(asked, round, true) == (round == 1 ? 1 : 2));
  }
  CHECK(asked[0].spec.baseline());
  for (std::size_t i = 1; i < 12; ++i) CHECK(asked[i].spec.workers >= asked[i + 1].spec.workers);
  std::set<std::vector<std::size_t>> orders;
  for (int round = 2; round <= 5; ++round) {
    std::vector<std::size_t> order;
    for (const auto& one : asked) {
      if (one.order.round == round) order.push_back(one.cell);
    }
    orders.insert(order);
  }
  CHECK(orders.size() == 4);
}

TEST_CASE("one stand lives at a time, and each of its visits begins when the last one ended") {
  Theatre theatre;
  const FakeStudy study(2, {1, 2});
  Plan plan = staged(0);
  plan.rounds = 4;
  run_fake(theatre.host, theatre.clock, study, plan);
  CHECK(theatre.host.most_alive == 1);
  for (const auto& one : theatre.host.asked) {
    CHECK_FALSE(one.order.keep);
    CHECK(static_cast<double>(one.order.since_ns) * 1e-9 == doctest::Approx(one.at_s));
  }
}

TEST_CASE("stands that cost more than their visits stay for three rounds, which count once") {
  Theatre theatre;
  theatre.host.renewing_s = 0.5;
  const FakeStudy study(2, {1, 2});
  const Record record = run_fake(theatre.host, theatre.clock, study, staged(0));
  CHECK(theatre.host.most_alive == 5);
  const auto& trials = record.cells[1].trials;
  CHECK(trials[0].generation == 1);  // the first generation, of one round, shows the cost
  for (std::size_t i = 1; i < 10; ++i) CHECK(trials[i].generation == 2 + static_cast<int>(i - 1) / 3);
  CHECK(trials[1].stand == trials[3].stand);
  CHECK(trials[3].stand != trials[4].stand);
  int last = 0;
  for (const Trial& trial : trials) last = trial.confirming == 0 ? trial.generation : last;
  CHECK(analyse(record).cells[1].explored->count == last);
}

TEST_CASE("points come in the order largest, middle, the rest; the best of the largest is confirmed in a new block") {
  Theatre theatre;
  const FakeStudy study(1, {1, 2, 4}, {10, 20, 1000, 30, 40});
  const Record record = run_fake(theatre.host, theatre.clock, study, staged(0));
  std::vector<std::size_t> sizes;
  for (const auto& one : theatre.host.asked) {
    if (sizes.empty() || sizes.back() != one.point_size) sizes.push_back(one.point_size);
  }
  CHECK(sizes == std::vector<std::size_t>{1000, 30, 40, 20, 10, 1000});
  CHECK(theatre.host.opened == 5 + 9);  // a block a round, each in a program started anew
  CHECK(theatre.host.launched == 9);
  REQUIRE(record.confirmations.size() == 1);
  const ConfirmationFacts& facts = record.confirmations[0];
  CHECK(facts.point == 2);
  CHECK(record.cells[facts.leader].workers == 4);
  CHECK(facts.rivals.empty());  // all others were told apart
  CHECK(facts.rounds == 9);
  CHECK(confirming(record.cells[facts.leader]) == 9);
  CHECK(record.blocks.size() == 5 + 9);
  CHECK(record.blocks.back().confirming == 1);
  CHECK(record.blocks.back().block == 9);
  const Analysed study_of = analyse(record);
  CHECK(study_of.conclusion.answer == Conclusion::Kind::best);
  CHECK(study_of.conclusion.confirmed);
  // Trials tell when they began and in which order.
  int last = 0;
  for (const auto& cell : record.cells) last += static_cast<int>(cell.trials.size());
  CHECK(record.cells[facts.leader].trials.back().order.value() <= last);
  CHECK(record.cells[facts.leader].trials.back().start_s.value() >
        record.cells[facts.leader].trials[0].start_s.value());
}

TEST_CASE("--rounds N means N and N again; fewer than six confirm nothing; confirming can be turned off") {
  const FakeStudy study(1, {1, 2});
  for (const int rounds : {1, 5, 6, 12}) {
    CAPTURE(rounds);
    Theatre theatre;
    Plan plan = staged(0);
    plan.rounds = rounds;
    const Record record = run_fake(theatre.host, theatre.clock, study, plan);
    const std::size_t again = confirming(record.cells[2]);
    CHECK(record.cells[2].trials.size() - again == static_cast<std::size_t>(rounds));
    CHECK(again == (rounds >= 6 ? static_cast<std::size_t>(rounds) : 0));
    Theatre without;
    plan.confirm = false;
    CHECK(run_fake(without.host, without.clock, study, plan).confirmations.empty());
  }
}

TEST_CASE("rivals that are not told apart are confirmed with the leader, three at most") {
  Theatre theatre;
  theatre.host.call_s = [](const CellSpec& spec, std::size_t cell, int round, bool) {
    if (spec.baseline()) return 0.001;
    return (spec.workers == 1 ? 0.001 : 0.0005) * (1 + 0.02 * std::sin(1.7 * static_cast<double>(cell) * round));
  };
  const FakeStudy study(6, {1, 2});
  const Record record = run_fake(theatre.host, theatre.clock, study, staged(0));
  REQUIRE(record.confirmations.size() == 1);
  CHECK(record.confirmations[0].rivals.size() == 3);
  for (const std::size_t rival : record.confirmations[0].rivals) CHECK(record.cells[rival].workers == 2);
  CHECK(analyse(record).conclusion.answer == Conclusion::Kind::faster);
}

TEST_CASE("stopped anywhere and gone on with, a study ends with what it would have had, and the steps rebuild it") {
  const FakeStudy study(2, {1, 2}, {100, 1000});
  Plan plan = staged(0);
  plan.rounds = 6;
  Theatre whole;
  const Record full = run_fake(whole.host, whole.clock, study, plan);
  const std::size_t visits = whole.host.asked.size();
  for (std::size_t stop_after = 1; stop_after < visits; stop_after += 5) {
    CAPTURE(stop_after);
    Theatre first;
    std::size_t seen = 0;
    Record rebuilt;
    first.hooks.stop = [&] { return seen >= stop_after; };
    first.hooks.on_begin = [&](const Record& frame) { rebuilt = frame; };
    first.hooks.on_step = [&](const RecordStep& step) {
      seen += step.visited ? 1 : 0;
      RecordStep copy = step;
      CHECK(apply(rebuilt, std::move(copy)));
    };
    const Record stopped = run_fake(first.host, first.clock, study, plan, first.hooks);
    CHECK_FALSE(stopped.complete);
    CHECK(rebuilt.cells == stopped.cells);
    CHECK(rebuilt.confirmations == stopped.confirmations);
    Theatre second;
    const Record ended = run_fake(second.host, second.clock, study, plan, {}, &stopped);
    CHECK(ended.complete);
    for (std::size_t cell = 0; cell < full.cells.size(); ++cell) {
      if (full.cells[cell].kind == Cell::Kind::baseline) continue;
      CHECK(ended.cells[cell].trials.size() == full.cells[cell].trials.size());
    }
    CHECK(ended.confirmations.size() == 1);
  }
}

TEST_CASE("an edited variant is tried in rounds of its own, with a baseline of its own that its row fits") {
  const FakeStudy study(2, {1, 2});
  Plan plan = staged(0);
  plan.rounds = 7;
  plan.confirm = false;
  Theatre first;
  Record record = run_fake(first.host, first.clock, study, plan);
  for (int edit = 1; edit <= 2; ++edit) {
    Theatre later;
    later.host.call_s = [edit](const CellSpec& spec, std::size_t, int, bool) {  // and the machine is slower now
      return spec.baseline() ? 0.002 * edit : 0.0005 * edit;
    };
    plan.again = "v1";
    record = run_fake(later.host, later.clock, study, plan, {}, &record);
  }
  int attempts = 0;
  const Analysed study_of = analyse(record);
  for (const CellFigures& f : study_of.cells) {
    if (f.cell->attempt == 1 || f.cell->kind == Cell::Kind::baseline) continue;
    ++attempts;
    CHECK(f.cell->variant == "v1");
    CHECK(f.cell->trials.size() == 7);
    const Cell* baseline = baseline_of(record, *f.cell);
    CHECK(baseline->baseline_for == "v1 (Workers)");
    CHECK(baseline->attempt == f.cell->attempt);
    CHECK(baseline->trials.size() == 7);
    CHECK(f.speedup->median == doctest::Approx(4));
    CHECK(baseline->trials[0].wall_s / f.time_s->median == doctest::Approx(4));
  }
  CHECK(attempts == 4);
  CHECK(study_of.cells[0].cell->trials.size() == 7);
}

TEST_CASE("trials during which the machine slept or stood still are dropped and counted, and never paired") {
  Theatre theatre;
  theatre.host.meddle = [](std::size_t cell, int round, Visit& visit) {
    if (cell != 1 || round > 3) return;
    visit.dropped = round == 1 ? Visit::Dropped::asleep : Visit::Dropped::paused;
    visit.seen.trials.clear();
  };
  const FakeStudy study(1, {1, 2});
  Plan plan = staged(0);
  plan.rounds = 9;
  plan.confirm = false;
  const Record record = run_fake(theatre.host, theatre.clock, study, plan);
  CHECK(record.dropped_asleep == 1);
  CHECK(record.dropped_paused == 2);
  CHECK(record.cells[1].trials.size() == 6);
  CHECK(record.cells[2].trials.size() == 9);
  CHECK(analyse(record).cells[1].speedup->count == 6);
}

TEST_CASE(
    "a cell that crashes is not tried again, a baseline that does ends its point; a leader that fails is not "
    "confirmed") {
  Theatre theatre;
  theatre.host.meddle = [&](std::size_t cell, int round, Visit& visit) {
    if (cell != 1 || round != 2) return;
    visit.seen.trials.clear();
    visit.seen.faults.push_back({Fault::Kind::crashed, round, "signal 11"});
    visit.over = true;
  };
  const FakeStudy study(1, {1, 2});
  Plan plan = staged(0);
  plan.rounds = 8;
  const Record record = run_fake(theatre.host, theatre.clock, study, plan);
  CHECK(record.cells[1].trials.size() == 1);
  CHECK(record.cells[2].trials.size() >= 8);

  Theatre second;
  second.host.meddle = [&](std::size_t, int, Visit& visit) {
    if (second.host.opened < 2) return;  // only in the confirmation
    visit.seen.trials.clear();
    visit.seen.faults.push_back({Fault::Kind::crashed, 1, "signal 11"});
    visit.over = true;
  };
  const Record failed = run_fake(second.host, second.clock, study, plan);
  CHECK(failed.complete);
  CHECK_FALSE(analyse(failed).conclusion.confirmed);
}

TEST_CASE("stopped while an input is made, nothing of the rounds before is dropped") {
  const FakeStudy study(2, {1, 2}, {100, 1000});
  Plan plan = staged(0);
  plan.rounds = 6;
  Theatre whole;
  const Record full = run_fake(whole.host, whole.clock, study, plan);
  for (int stopped_at = 1; stopped_at <= 3; ++stopped_at) {  // two points, and the block that confirms
    CAPTURE(stopped_at);
    Theatre first;
    first.host.on_open = [&](int opened) {
      if (opened == stopped_at) throw Stopped{};
    };
    const Record stopped = run_fake(first.host, first.clock, study, plan);
    CHECK_FALSE(stopped.complete);
    Theatre second;
    const Record ended = run_fake(second.host, second.clock, study, plan, {}, &stopped);
    CHECK(ended.complete);
    for (std::size_t cell = 0; cell < full.cells.size(); ++cell) {
      CHECK(stopped.cells[cell].trials.size() <= ended.cells[cell].trials.size());
      if (full.cells[cell].kind == Cell::Kind::baseline) continue;
      CHECK(ended.cells[cell].trials.size() == full.cells[cell].trials.size());
      for (std::size_t k = 0; k < stopped.cells[cell].trials.size(); ++k)
        CHECK(ended.cells[cell].trials[k] == stopped.cells[cell].trials[k]);
    }
    CHECK(first.host.asked.size() + second.host.asked.size() == whole.host.asked.size());
  }
}

TEST_CASE("each sound cell is checked once, with the next smaller size or an eighth less, the fastest first") {
  const FakeStudy study(2, {1, 4}, {100, 1000});
  Plan plan = staged(0);
  plan.rounds = 6;
  Theatre theatre;
  theatre.host.meddle = [](std::size_t cell, int round, Visit& visit) {
    if (cell == 1 && round == 3) visit.seen.faults.push_back({Fault::Kind::wrong_answer, round, "off by one"});
  };
  const Record record = run_fake(theatre.host, theatre.clock, study, plan);
  const auto& checked = theatre.host.checked;
  REQUIRE(checked.size() == 6);  // three of four sound cells at each size
  for (std::size_t k = 0; k < 3; ++k) {
    CHECK(checked[k].size == 1000);
    CHECK(checked[k].other_size == 100);
    CHECK(checked[k + 3].size == 100);
    CHECK(checked[k + 3].other_size == 88);
    CHECK(checked[k].spec.workers == (k == 0 ? 4 : checked[k].spec.workers));
  }
  CHECK(checked[2].spec.workers == 1);
  CHECK(record.left_out.empty());
  Theatre again;
  run_fake(again.host, again.clock, study, plan, {}, &record);
  CHECK(again.host.checked.empty());  // a record that has them is not checked again
}

TEST_CASE("checks end where their share of the budget ends, and what is left out is said with its price") {
  const FakeStudy study(5, {1, 2});
  Theatre theatre(0.02);
  theatre.host.check_s = 0.3;
  const Record record = run_fake(theatre.host, theatre.clock, study, staged(20), theatre.hooks);
  CHECK(theatre.host.checked.size() >= 3);  // a share of 1 s
  CHECK(theatre.host.checked.size() <= 4);
  REQUIRE(record.left_out.size() >= 1);
  const LeftOut& left = record.left_out.back();
  CHECK(left.what == LeftOut::What::checks);
  CHECK(left.count + static_cast<int>(theatre.host.checked.size()) == 10);
  CHECK(test::contains(theatre.all_notes(), "with another input, too; a budget of about "));
  CHECK(theatre.clock.s() <= 20 * 1.15);
}

TEST_CASE("a block that is lost is a fault of its point, and the study goes on") {
  const FakeStudy study(1, {1, 2}, {100, 1000});
  Plan plan = staged(0);
  plan.rounds = 6;
  for (const int lost_in : {1, 2, 3}) {
    CAPTURE(lost_in);
    Theatre theatre;
    theatre.host.meddle = [&](std::size_t, int round, Visit&) {
      if (theatre.host.opened == lost_in && round >= (lost_in == 3 ? 1 : 2))
        throw BlockLost{Fault{Fault::Kind::crashed, 0, "the process that holds the input is gone"}};
    };
    const Record record = run_fake(theatre.host, theatre.clock, study, plan, theatre.hooks);
    CHECK(record.complete);
    CHECK(theatre.host.closed >= theatre.host.opened);
    const Analysed analysed = analyse(record);
    if (lost_in == 3) {  // confirming: what was explored stays
      CHECK(analysed.conclusion.leader != nullptr);
      CHECK(test::contains(theatre.all_notes(), "not confirmed: the process that holds the input is gone"));
    } else {
      CHECK(std::count_if(record.cells.begin(), record.cells.end(),
                          [](const Cell& cell) { return !cell.faults.empty(); }) == 1);
    }
  }
}
