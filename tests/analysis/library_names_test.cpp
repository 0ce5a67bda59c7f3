// What a rewrite asks of the C library, of tasks and of caches: each cause planted in sums made by hand, with a twin.
#include <doctest/doctest.h>

#include <algorithm>

#include "analysis/planted_sums.hpp"
#include "antcrew/analysis/analysed.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using internal::LibraryCounts;
using internal::LockFacts;
using test::record_with;
using test::sums_with;

namespace {

// One call of four workers, 10 s of which the baseline needs 28; the baseline's own call beside it.
std::vector<Finding> losses_with(const LaneSums& sums, const LibraryCounts& baseline = {},
                                 std::optional<double> crowd = std::nullopt) {
  LaneSums alone = sums_with({{LaneState::serial, 28}}, 1, 28);
  alone.library = baseline;
  alone.memory_counted = true;
  Record record = record_with({sums, sums, sums}, 10, 28);
  record.cells[0].metered = {alone, alone, alone};
  record.machine.limits.online_processors = record.machine.limits.affinity_processors = 4;
  if (crowd) {
    const std::vector<double> one(8, 1.0);
    const std::vector<double> four(8, *crowd);
    record.crowds.push_back({0, 1, one});
    record.crowds.push_back({0, 4, four});
  }
  const Analysed study = analyse(record);
  return losses_of(study, study.cells[1]);
}

const Finding* the_one(const std::vector<Finding>& all, const std::string& id) {
  const auto found = std::find_if(all.begin(), all.end(), [&](const Finding& f) { return f.id == id; });
  return found == all.end() ? nullptr : &*found;
}
double seconds_of(const std::vector<Finding>& all, const std::string& id) {
  const Finding* found = the_one(all, id);
  return found == nullptr ? 0 : found->loss_s;
}

LaneSums with_counts(LaneSums sums, const LibraryCounts& counts) {
  sums.library = counts;
  sums.memory_counted = true;
  return sums;
}

}  // namespace

TEST_CASE("what the allocator takes more than in the baseline is told as allocations, with their number") {
  LibraryCounts counts;
  counts.allocations = 1e6;
  counts.allocating_s = 9;
  LibraryCounts few;
  few.allocations = 10;
  const auto told = losses_with(with_counts(sums_with({}), counts), few);
  CHECK(seconds_of(told, "allocations") == doctest::Approx(9));
  CHECK(the_one(told, "allocations")->figures.get("allocations") == 1e6);
  CHECK(seconds_of(told, "work-inflation-own") == doctest::Approx(3));
  // Not where the baseline does as much, nor where nobody counted.
  CHECK(seconds_of(losses_with(with_counts(sums_with({}), counts), counts), "allocations") == 0);
  LaneSums uncounted = with_counts(sums_with({}), counts);
  uncounted.memory_counted = false;
  CHECK(seconds_of(losses_with(uncounted, few), "allocations") == 0);
}

TEST_CASE("a thread for every item: its price by their number, out of what was idle first; a thread a worker is none") {
  LibraryCounts counts;
  counts.threads = 100'000;
  LaneSums sums = with_counts(sums_with({{LaneState::serial_wait, 6}, {LaneState::imbalance, 4}}), counts);
  sums.thread_cost_s = 20e-6;  // 4 workers × 100,000 × 20 µs = 8 s
  const auto told = losses_with(sums);
  CHECK(seconds_of(told, "threads-per-item") == doctest::Approx(8));
  CHECK(seconds_of(told, "sequential-stretch") == 0);
  REQUIRE(the_one(told, "threads-per-item") != nullptr);
  CHECK(the_one(told, "threads-per-item")->figures.get("threads") == 100'000);
  counts.threads = 4;
  sums.library = counts;
  CHECK(the_one(losses_with(sums), "threads-per-item") == nullptr);
  CHECK(seconds_of(losses_with(sums), "sequential-stretch") == doctest::Approx(6));
  // Threads of crews that are begun in the call belong to their start.
  counts.threads = 100'000;
  LaneSums crews = with_counts(sums_with({{LaneState::start_up, 6}, {LaneState::imbalance, 4}}), counts);
  crews.thread_cost_s = 20e-6;
  CHECK(the_one(losses_with(crews), "threads-per-item") == nullptr);
  CHECK(seconds_of(losses_with(crews), "start-up-each-call") == doctest::Approx(6));
}

TEST_CASE("work that shrinks on one processor shares lines of the cache; work that does not is more work") {
  LaneSums sums = sums_with({});  // 40 s of CPU time for work of 28
  sums.spread_cpu_s = 40;
  sums.one_place_cpu_s = 30;
  const auto shared = losses_with(sums, {}, 1.0);
  CHECK(seconds_of(shared, "line-sharing") == doctest::Approx(10));
  CHECK(the_one(shared, "line-sharing")->sure == Finding::Sure::likely);
  CHECK(seconds_of(shared, "work-inflation-own") == doctest::Approx(2));
  // Nobody measured what copies of the baseline do to each other: it may be the memory.
  const auto unknown = losses_with(sums);
  CHECK(the_one(unknown, "line-sharing")->sure == Finding::Sure::open);
  CHECK(the_one(unknown, "line-sharing")->or_else == "work-inflation-machine");
  // What the machine explains is the machine's.
  const auto machine = losses_with(sums, {}, 1.4);
  CHECK(seconds_of(machine, "work-inflation-machine") == doctest::Approx(11.2));
  CHECK(seconds_of(machine, "line-sharing") == doctest::Approx(0.8));
  sums.one_place_cpu_s = 39.5;
  CHECK(the_one(losses_with(sums, {}, 1.0), "line-sharing") == nullptr);
  CHECK(seconds_of(losses_with(sums, {}, 1.0), "work-inflation-own") == doctest::Approx(12));
}

TEST_CASE("a lock of the C library is told with the place of who waits") {
  LaneSums sums = sums_with({{LaneState::lock, 12}});
  LockFacts lock;
  lock.name = "mutex";
  lock.place = "tides.cpp:41";
  lock.waits = 1000;
  lock.wait_s = 12;
  sums.locks = {lock};
  const auto told = losses_with(sums);
  CHECK(seconds_of(told, "lock-wait") == doctest::Approx(12));
  CHECK(the_one(told, "lock-wait")->name == "mutex at tides.cpp:41");
}

TEST_CASE("a lock whose holder waits for a processor is told apart from one that is held long, and from a sleeper") {
  const auto told_with = [](double off_s, double delay_s) {
    LaneSums sums = sums_with({{LaneState::lock, 8}, {LaneState::waiting_to_run, delay_s}});
    LockFacts lock;
    lock.name = "map";
    lock.holds = 100;
    lock.hold_s = 8;
    lock.hold_off_s = off_s;
    lock.wait_s = 8;
    sums.locks = {lock};
    return *the_one(losses_with(sums), "lock-wait");
  };
  CHECK(told_with(7, 6).figures.get("holder_ready_s") == 7);
  CHECK(told_with(7, 0).figures.get("holder_asleep_s") == 7);
  CHECK(!told_with(1, 6).figures.has("holder_ready_s"));
  CHECK(!told_with(1, 6).figures.has("holder_asleep_s"));
}

TEST_CASE(
    "forks that cost more than they bring are small pieces, whether the log is whole or only their number known") {
  LaneSums sums = sums_with({});
  sums.forks = 100e6;
  sums.fork_cost_s = 60e-9;
  const auto told = losses_with(sums);
  CHECK(seconds_of(told, "small-pieces") == doctest::Approx(6));
  CHECK(the_one(told, "small-pieces")->figures.get("forks") == 100e6);
  sums.slowdown = 3.0;  // the log took most of it
  const auto by_number = losses_with(sums);
  REQUIRE(the_one(by_number, "small-pieces") != nullptr);
  CHECK(seconds_of(by_number, "small-pieces") == doctest::Approx(6));
}

TEST_CASE("one worker tried beside the metered calls tells what was slow already, where no cell has one") {
  LaneSums sums = sums_with({});
  sums.one_worker_s = 37;
  const auto told = losses_with(sums);
  CHECK(seconds_of(told, "work-inflation-one-worker") == doctest::Approx(9));
  CHECK(seconds_of(told, "work-inflation-own") == doctest::Approx(3));
}

TEST_CASE("time in loops that only wait is no more work") {
  LaneSums sums = sums_with({});
  sums.spinning_s = 7;
  const auto told = losses_with(sums);
  CHECK(seconds_of(told, "spinning") == doctest::Approx(7));
  CHECK(seconds_of(told, "work-inflation-own") == doctest::Approx(5));
}

TEST_CASE("processors that compute more slowly together are told, as far as copies of the baseline do so, too") {
  const auto told_with = [](std::optional<double> crowd, double alone_s, double together_s, int cores) {
    const LaneSums sums = sums_with({});
    LaneSums alone = sums_with({{LaneState::serial, 28}}, 1, 28);
    Record record = record_with({sums, sums, sums}, 10, 28);
    record.cells[0].metered = {alone, alone, alone};
    record.machine.limits.online_processors = record.machine.limits.affinity_processors = 4;
    record.machine.topology.physical_cores = cores;
    record.machine.topology.logical_processors = 4;
    record.together = {{1, alone_s, 9e9, 0}, {4, together_s, 20e9, 80e-9}};
    if (crowd) {
      record.crowds.push_back({0, 1, std::vector<double>(8, 1.0)});
      record.crowds.push_back({0, 4, std::vector<double>(8, *crowd)});
    }
    const Analysed study = analyse(record);
    return losses_of(study, study.cells[1]);
  };
  // 12 s more than the baseline's 28; clocks 20 % slower are 5.6 s of it, copies 40 % slower 11.2 s.
  const auto clocks = told_with(1.4, 20e-6, 24e-6, 4);
  CHECK(seconds_of(clocks, "slower-clocks") == doctest::Approx(5.6));
  CHECK(seconds_of(clocks, "work-inflation-machine") == doctest::Approx(5.6));
  CHECK(the_one(clocks, "work-inflation-machine")->figures.get("memory_bytes_per_s") == 20e9);
  CHECK(seconds_of(told_with(1.4, 20e-6, 24e-6, 2), "hardware-threads") == doctest::Approx(5.6));
  CHECK(seconds_of(told_with(1.0, 20e-6, 24e-6, 4), "slower-clocks") == 0);
  CHECK(seconds_of(told_with(1.4, 20e-6, 20.2e-6, 4), "slower-clocks") == 0);
  const auto unknown = told_with(std::nullopt, 20e-6, 24e-6, 4);
  REQUIRE(the_one(unknown, "slower-clocks") != nullptr);
  CHECK(the_one(unknown, "slower-clocks")->sure == Finding::Sure::open);
}

TEST_CASE("what waiting for a lock costs in the kernel goes with the lock, as far as its waits explain it") {
  LaneSums sums = sums_with({{LaneState::lock, 4}});
  sums.system_s = 6;
  sums.page_fault_s = 1e-6;
  LockFacts lock;
  lock.name = "mutex";
  lock.place = "tides.cpp:41";
  lock.waits = 100'000;
  lock.wait_s = 4;
  sums.locks = {lock};
  Record record = record_with({sums, sums, sums}, 10, 28);
  record.yardstick.edition = 1;
  record.yardstick.wake_s = {40e-6};
  const Analysed study = analyse(record);
  const auto told = losses_of(study, study.cells[1]);
  CHECK(seconds_of(told, "lock-wait") == doctest::Approx(8));  // 4 s of waiting, 100,000 wakes of 40 µs
  CHECK(seconds_of(told, "kernel-time") == doctest::Approx(2));
}
