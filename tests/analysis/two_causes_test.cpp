// Every two of fourteen causes in one call, in both orders: both are told, the larger one first, and no promise passes
// what the workers bring.
#include <doctest/doctest.h>

#include <algorithm>
#include <string_view>

#include "analysis/planted_sums.hpp"
#include "antcrew/analysis/analysed.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::record_with;
using test::sums_with;

namespace {

// Four workers, ten seconds: so many of the forty worker-seconds are lost this way.
struct Planted {
  std::string_view id;
  void (*plant)(LaneSums& sums, double seconds);
};

template <LaneState state>
void in_state(LaneSums& sums, double seconds) {
  sums.parts_s[state] += seconds;
  sums.parts_s[LaneState::running] -= seconds;
  sums.cpu_frames_s -= seconds;
  sums.cpu_tree_s -= seconds;
}

constexpr Planted causes[] = {
    {"lock-wait", in_state<LaneState::lock>},
    {"slow-stage", in_state<LaneState::stage>},
    {"moving-data", in_state<LaneState::moving_data>},
    {"start-up-each-call", in_state<LaneState::start_up>},
    {"no-ready-work", in_state<LaneState::no_work>},
    {"shared-processor", in_state<LaneState::waiting_to_run>},
    {"work-not-found", in_state<LaneState::dispatch>},
    {"sequential-stretch", in_state<LaneState::serial_wait>},
    {"blocked", in_state<LaneState::blocked>},
    // Of the work itself: it stays running.
    {"small-pieces",
     [](LaneSums& sums, double seconds) {
       sums.forks = seconds / 50e-9;
       sums.fork_cost_s = 50e-9;
     }},
    {"allocations",
     [](LaneSums& sums, double seconds) {
       sums.library->allocations = 1e6;
       sums.library->allocating_s = seconds;
     }},
    {"kernel-time",
     [](LaneSums& sums, double seconds) {
       sums.system_s += seconds;
       sums.page_fault_s = 0.25e-6;
     }},
    {"fresh-memory",
     [](LaneSums& sums, double seconds) {
       sums.system_s += seconds;
       sums.page_faults = seconds / 1e-6;
       sums.page_fault_s = 0.25e-6;
     }},
    {"line-sharing",
     [](LaneSums& sums, double seconds) {
       sums.spread_cpu_s = 40;
       sums.one_place_cpu_s = 40 - seconds;
     }},
};

std::vector<Finding> told_of(const Planted& first, double first_s, const Planted& second, double second_s) {
  LaneSums sums = sums_with({});
  sums.library.emplace();
  sums.memory_counted = true;
  first.plant(sums, first_s);
  second.plant(sums, second_s);
  LaneSums alone = sums_with({{LaneState::serial, 40 - first_s - second_s}}, 1, 40 - first_s - second_s);
  alone.library.emplace();
  alone.memory_counted = true;
  Record record = record_with({sums, sums, sums}, 10, 40 - first_s - second_s);
  record.cells[0].metered = {alone, alone, alone};
  record.machine.limits.online_processors = record.machine.limits.affinity_processors = 4;
  record.crowds.push_back({0, 1, std::vector<double>(8, 1.0)});
  record.crowds.push_back({0, 4, std::vector<double>(8, 1.0)});
  const Analysed study = analyse(record);
  return losses_of(study, study.cells[1]);
}

}  // namespace

TEST_CASE("two causes at once are both told, the larger first") {
  int pairs = 0;
  for (const Planted& first : causes) {
    for (const Planted& second : causes) {
      if (&first == &second) continue;
      // On one processor nobody meets another one at a lock either: the data cannot tell these two apart.
      const auto either = [&](std::string_view id) { return first.id == id || second.id == id; };
      if (either("line-sharing") && either("lock-wait")) continue;
      CAPTURE(std::string(first.id));
      CAPTURE(std::string(second.id));
      const auto told = told_of(first, 12, second, 6);
      std::vector<const Finding*> large;
      for (const Finding& loss : told) {
        if (is_told(loss)) large.push_back(&loss);
      }
      std::stable_sort(large.begin(), large.end(),
                       [](const Finding* a, const Finding* b) { return a->share > b->share; });
      REQUIRE(large.size() == 2);
      CHECK(large[0]->id == first.id);
      CHECK(large[1]->id == second.id);
      CHECK(large[0]->share == doctest::Approx(0.3).epsilon(0.01));
      CHECK(large[1]->share == doctest::Approx(0.15).epsilon(0.01));
      for (const Finding* loss : large) {
        REQUIRE(loss->gain_speedup);
        CHECK(*loss->gain_speedup <= 4.001);
        CHECK(*loss->gain_speedup >= 2.199);
      }
      ++pairs;
    }
  }
  CHECK(pairs == 14 * 13 - 2);
}
