// What the rounds that confirm the best rest on: blocks, fresh starts, inputs; and what is done before the tenth round.
#include <doctest/doctest.h>

#include <algorithm>
#include <set>

#include "antcrew/analysis/claim.hpp"
#include "study/fake_host.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::FakeStudy;
using test::run_fake;
using test::staged;
using test::Theatre;

namespace {

std::vector<const BlockFacts*> confirming_blocks(const Record& record) {
  std::vector<const BlockFacts*> blocks;
  for (const BlockFacts& block : record.blocks) {
    if (block.confirming > 0) blocks.push_back(&block);
  }
  return blocks;
}

}  // namespace

TEST_CASE("a block that opens quickly has one round; one that is dear has several, of six blocks at least") {
  for (const double input_s : {0.0001, 0.05}) {
    CAPTURE(input_s);
    Theatre theatre;
    theatre.host.input_s = input_s;
    const Record record = run_fake(theatre.host, theatre.clock, FakeStudy(1, {1, 2}), staged(3));
    const auto blocks = confirming_blocks(record);
    REQUIRE(record.confirmations.size() == 1);
    CHECK(blocks.size() >= 6);
    std::map<int, int> rounds;
    for (const Trial& trial : record.cells[record.confirmations[0].leader].trials) {
      if (trial.confirming == 1) ++rounds[trial.block.value()];
    }
    CHECK(rounds.size() == blocks.size());
    for (const auto& [block, count] : rounds) CHECK((input_s < 0.01 ? count == 1 : count >= 1));
    for (const BlockFacts* block : blocks) CHECK(block->afresh);
    const Analysed study = analyse(record);
    CHECK(study.conclusion.confirmed);
    CHECK(study.conclusion.claim->blocks == static_cast<int>(blocks.size()));
    CHECK(study.conclusion.answer == Conclusion::Kind::best);
    CHECK_FALSE(study.conclusion.of_one_block);
  }
}

TEST_CASE("where there is no time for six blocks the claim is of one, and nothing is called the best") {
  Theatre theatre;
  theatre.host.input_s = 1;
  const Record record = run_fake(theatre.host, theatre.clock, FakeStudy(1, {1, 2}), staged(4));
  REQUIRE(record.confirmations.size() == 1);
  CHECK(record.confirmations[0].blocks == 1);
  CHECK(confirming_blocks(record).size() == 1);
  const Analysed study = analyse(record);
  CHECK(study.conclusion.confirmed);
  CHECK(study.conclusion.of_one_block);
  CHECK(study.conclusion.answer == Conclusion::Kind::faster);
}

TEST_CASE("without launches blocks are still blocks, and nothing is started anew") {
  Theatre theatre;
  Plan plan = staged(3);
  plan.launches = 0;
  const Record record = run_fake(theatre.host, theatre.clock, FakeStudy(1, {1, 2}), plan);
  CHECK(theatre.host.launched == 0);
  CHECK(confirming_blocks(record).size() >= 6);
  plan.launches = 20;
  Theatre more;
  CHECK(confirming_blocks(run_fake(more.host, more.clock, FakeStudy(1, {1, 2}), plan)).size() >= 20);
}

TEST_CASE("a finished confirmation stands: going on draws no second one to choose from") {
  Theatre theatre;
  const FakeStudy study(2, {1, 2});
  const Record first = run_fake(theatre.host, theatre.clock, study, staged(1));
  REQUIRE(first.confirmations.size() == 1);
  Theatre again;
  const Record second = run_fake(again.host, again.clock, study, staged(4), {}, &first);
  CHECK(second.confirmations.size() == 1);
  CHECK(second.plan.matters == first.plan.matters);
  // Another threshold comes too late: it would be chosen by what was seen.
  Plan other = staged(4);
  other.matters = 0.2;
  Theatre third;
  CHECK(run_fake(third.host, third.clock, study, other, {}, &first).plan.matters == first.plan.matters);
}

TEST_CASE("inputs are taken in turn while confirming, and a winner that depends on them is told") {
  for (const bool depends : {false, true}) {
    CAPTURE(depends);
    Theatre theatre(0.001);
    FakeStudy study(2, {2});
    study.inputs(3);
    theatre.host.call_s = [&](const CellSpec& spec, std::size_t, int round, bool) {
      const bool odd = !theatre.host.seeds.empty() && theatre.host.seeds.back() == 1;
      const double noise = 1 + 0.002 * (round % 3);
      if (spec.baseline()) return 0.001 * noise;
      return (spec.variant == 0 ? (depends && odd ? 0.0008 : 0.0005) : 0.00052) * noise;
    };
    const Record record = run_fake(theatre.host, theatre.clock, study, staged(3));
    std::set<std::uint64_t> seeds;
    for (const BlockFacts* block : confirming_blocks(record)) seeds.insert(block->input_seed);
    CHECK(seeds == std::set<std::uint64_t>{0, 1, 2});
    CHECK(theatre.host.seeds.front() == 0);
    CHECK(record.plan.inputs == 3);
    const Analysed analysed = analyse(record);
    CHECK(analysed.conclusion.rivals_by_input.empty() == !depends);
    CHECK(analysed.conclusion.by_input.empty());
  }
}

TEST_CASE("where the time went is looked at before the tenth round, the baseline and the fastest first") {
  for (const double budget_s : {8.0, 12.0}) {
    CAPTURE(budget_s);
    Theatre theatre(0.06);
    theatre.host.meter_s = 0.05 * budget_s;
    const Record record = run_fake(theatre.host, theatre.clock, FakeStudy(1, {1, 2}), staged(budget_s));
    REQUIRE(theatre.host.metered.size() >= 2);
    CHECK(theatre.host.metered[0].spec.baseline());
    CHECK(theatre.host.metered[1].spec.workers == 2);
    CHECK(theatre.host.metered[1].round < 10);
    const bool left_out = std::any_of(record.left_out.begin(), record.left_out.end(),
                                      [](const LeftOut& left) { return left.what == LeftOut::What::metering; });
    CHECK_FALSE(left_out);
    CHECK(theatre.clock.s() - 1 <= budget_s * 1.15);
  }
}

TEST_CASE("a call so long that three of them do not fit is looked at once; one worker is tried where no cell has one") {
  for (const bool with_one : {true, false}) {
    CAPTURE(with_one);
    Theatre theatre(0.06);
    theatre.host.meter_s = 0.3;
    theatre.host.call_s = [](const CellSpec& spec, std::size_t, int round, bool) {
      return (spec.baseline() ? 0.06 : spec.workers == 1 ? 0.1 : 0.4) * (1 + 0.002 * (round % 3));
    };
    const std::vector<int> counts = with_one ? std::vector<int>{1, 2} : std::vector<int>{2};
    const Record record = run_fake(theatre.host, theatre.clock, FakeStudy(1, counts), staged(12));
    const auto of_two = std::find_if(theatre.host.metered.begin(), theatre.host.metered.end(),
                                     [](const auto& one) { return one.spec.workers == 2; });
    REQUIRE(of_two != theatre.host.metered.end());
    CHECK(of_two->calls == 1);
    CHECK(of_two->one_worker != with_one);
    CHECK(theatre.host.metered.front().spec.baseline());
    CHECK(theatre.host.metered.front().calls == 3);
  }
}

TEST_CASE("the yardstick is timed with the rounds, and only for a small share of the time") {
  Theatre theatre;
  RunTools tools{theatre.host};
  tools.machine.limits.online_processors = tools.machine.limits.affinity_processors = 8;
  tools.now_ns = [&] { return theatre.clock.ns; };
  tools.machine_times = [] { return MachineTimes{}; };
  double spent_s = 0;
  tools.yardstick = [&](bool stream) {
    const double takes_s = stream ? 0.015 : 0.0002;
    theatre.clock.advance(takes_s);
    spent_s += takes_s;
    YardstickFacts facts;
    facts.edition = 1;
    (stream ? facts.stream_s : facts.arithmetic_s) = {takes_s};
    return facts;
  };
  const FakeStudy study(1, {1, 2});
  const Record record = run_with(tools, study.base(), staged(6), {}, Record{});
  CHECK(record.yardstick.edition == 1);
  CHECK(record.yardstick.stream_s.size() == 3);
  CHECK(record.yardstick.arithmetic_s.size() >= 10);
  CHECK(spent_s <= 0.02 * 6);
}

TEST_CASE("waiting for an idle machine is told, has its limit, and takes nothing from the budget") {
  for (const double busy_for_s : {0.0, 3.0, 1e9}) {
    CAPTURE(busy_for_s);
    Theatre theatre;
    RunTools tools{theatre.host};
    tools.machine.limits.online_processors = tools.machine.limits.affinity_processors = 8;
    tools.now_ns = [&] { return theatre.clock.ns; };
    tools.machine_times = [] { return MachineTimes{}; };
    double looked_s = 0;
    tools.other_load = [&](double seconds) {
      theatre.clock.advance(seconds);
      looked_s += seconds;
      return looked_s < busy_for_s ? 1.3 : 0.0;
    };
    const FakeStudy study(1, {1, 2});
    Plan plan = staged(1);
    plan.wait_idle_s = 10;
    Record fresh;
    const Record record = run_with(tools, study.base(), plan, theatre.hooks, fresh);
    CHECK(record.complete);
    CHECK(record.cells[1].trials.size() >= 7);
    if (busy_for_s == 0) CHECK(record.waited_idle_s == 0);
    if (busy_for_s == 3) CHECK(record.waited_idle_s == doctest::Approx(3).epsilon(0.1));
    if (busy_for_s > 1e6) {
      CHECK(record.waited_idle_s == doctest::Approx(10).epsilon(0.1));
      CHECK(test::contains(theatre.all_notes(), "not waiting any longer"));
    }
    CHECK(test::contains(theatre.all_notes(), "waiting for them") == (busy_for_s > 0));
  }
}
