#include "antcrew/log/lane_sums.hpp"

#include <doctest/doctest.h>

#include <numeric>

using namespace antcrew::internal;

namespace {

constexpr std::int64_t ms = 1'000'000;

// A log written by hand: times in milliseconds since the call began; CPU readings likewise, -1 = none.
class HandLog {
 public:
  HandLog(int lanes, double length_ms) {
    log_.end_ns = ns(length_ms);
    log_.lanes.resize(static_cast<std::size_t>(lanes));
    log_.delay_at_begin_ns = 0;
  }
  std::uint32_t region(Sharing sharing, double begin, double end, std::uint64_t n, int workers) {
    LaneRegion region;
    region.sharing = sharing;
    region.begin_ns = ns(begin);
    region.end_ns = ns(end);
    region.n = n;
    region.workers = static_cast<std::uint32_t>(workers);
    region.file = "/src/tides.cpp";
    region.line = static_cast<int>(log_.regions.size()) * 10 + 10;
    log_.regions.push_back(region);
    return static_cast<std::uint32_t>(log_.regions.size());
  }
  Stretch& until(std::size_t lane, double end, Doing doing, std::uint32_t region = 0, double cpu = -1) {
    Stretch& stretch = log_.lanes[lane].emplace_back();
    stretch.end_ns = ns(end);
    stretch.doing = doing;
    stretch.region = region;
    stretch.cpu_ns = cpu < 0 ? -1 : ns(cpu);
    stretch.thread = static_cast<std::uint32_t>(100 + lane);
    return stretch;
  }
  Stretch& piece(std::size_t lane, double end, std::uint32_t region, double cpu, std::uint64_t first,
                 std::uint64_t items = 1) {
    Stretch& stretch = until(lane, end, Doing::body, region, cpu);
    stretch.pieces = 1;
    stretch.first = first;
    stretch.items = items;
    return stretch;
  }
  LaneLog& log() { return log_; }
  LaneSums sums() const {
    const LaneSums sums = sums_of(log_);
    CHECK(sums.parts_s.sum() == doctest::Approx(sums.lane_seconds()));
    return sums;
  }

 private:
  static std::int64_t ns(double milliseconds) { return static_cast<std::int64_t>(milliseconds * ms); }
  LaneLog log_;
};

double part_ms(const LaneSums& sums, LaneState state) {
  return 1e3 * sums.parts_s[state];
}

}  // namespace

TEST_CASE("a loop after a sequential stretch: every second of both workers has one state") {
  HandLog hand(2, 40);
  const auto region = hand.region(Sharing::even, 10, 30, 2, 2);
  hand.until(0, 10, Doing::serial, 0, 10);
  hand.piece(0, 30, region, 30, 0);
  hand.until(0, 40, Doing::serial, 0, 35);  // off the processor for 5 ms
  hand.until(1, 12, Doing::away, 0, 0);
  hand.piece(1, 20, region, 6, 1);  // 2 of its 8 ms it was off the processor
  const LaneSums sums = hand.sums();
  CHECK(part_ms(sums, LaneState::serial) == doctest::Approx(20));
  CHECK(part_ms(sums, LaneState::serial_wait) == doctest::Approx(20));
  CHECK(part_ms(sums, LaneState::running) == doctest::Approx(26));
  CHECK(part_ms(sums, LaneState::blocked) == doctest::Approx(2));
  CHECK(part_ms(sums, LaneState::dispatch) == doctest::Approx(2));
  CHECK(part_ms(sums, LaneState::imbalance) == doctest::Approx(10));
  CHECK(1e3 * sums.serial_cpu_s == doctest::Approx(15));
  REQUIRE(sums.serials.size() == 2);
  CHECK(sums.serials[0].seconds == doctest::Approx(0.010));
  REQUIRE(sums.by_place.size() == 1);
  CHECK(sums.by_place[0].place == "tides.cpp:10");
  CHECK(sums.by_place[0].longest_piece_s == doctest::Approx(0.020));
}

TEST_CASE("time off a processor is waiting for one when the kernel says so, or when the thread never gave it up") {
  HandLog hand(1, 30);
  hand.until(0, 10, Doing::body, 0, 4).delay_ns = 5 * ms;
  hand.until(0, 20, Doing::body, 0, 8).slept = Stretch::Slept::no;
  hand.until(0, 30, Doing::body, 0, 8).slept = Stretch::Slept::yes;
  const LaneSums sums = hand.sums();
  CHECK(part_ms(sums, LaneState::running) == doctest::Approx(8));
  CHECK(part_ms(sums, LaneState::waiting_to_run) == doctest::Approx(5 + 6));
  CHECK(part_ms(sums, LaneState::blocked) == doctest::Approx(1 + 10));
}

TEST_CASE("a worker that was called and got no processor waited for one, and had not merely not begun") {
  HandLog hand(2, 20);
  hand.log().delay_before_ns = {-1, 0};
  hand.log().cpu_before_ns = {-1, 0};
  const auto region = hand.region(Sharing::even, 0, 20, 2, 2);
  hand.piece(0, 20, region, 20, 0);
  hand.until(1, 10, Doing::away, 0, 0).delay_ns = 7 * ms;
  hand.piece(1, 20, region, 10, 1);
  const LaneSums sums = hand.sums();
  CHECK(part_ms(sums, LaneState::waiting_to_run) == doctest::Approx(7));
  CHECK(part_ms(sums, LaneState::dispatch) == doctest::Approx(3));
}

TEST_CASE("what made the last worker the last is told apart: count, length, lock, late begin") {
  HandLog five(4, 20);
  const auto region = five.region(Sharing::pieces, 0, 20, 5, 4);
  for (std::size_t lane = 0; lane < 4; ++lane) five.piece(lane, 10, region, 10, lane);
  five.piece(0, 20, region, 20, 4);
  LaneSums sums = five.sums();
  CHECK(part_ms(sums, LaneState::imbalance) == doctest::Approx(30));
  CHECK(1e3 * sums.by_place[0].causes.divisible_s == doctest::Approx(30));

  HandLog uneven(2, 20);
  const auto loop = uneven.region(Sharing::pieces, 0, 20, 2, 2);
  uneven.piece(0, 20, loop, 20, 0);
  uneven.piece(1, 6, loop, 6, 1);
  sums = uneven.sums();
  CHECK(1e3 * sums.by_place[0].causes.uneven_s == doctest::Approx(14));
  CHECK(1e3 * sums.by_place[0].finer_s == doctest::Approx(20));  // one item cannot be cut

  HandLog locked(2, 20);
  const auto both = locked.region(Sharing::even, 0, 20, 2, 2);
  int lock = 0;
  locked.piece(0, 10, both, 10, 0);
  locked.until(1, 10, Doing::lock, both, 0).about = &lock;
  locked.piece(1, 20, both, 10, 1);
  LaneLock map;
  map.address = &lock;
  map.name = "map";
  map.holds = 2;
  map.timed_holds = 1;
  map.timed_ns = 5 * ms;
  map.timed_cpu_ns = 2 * ms;
  locked.log().locks.push_back(map);
  sums = locked.sums();
  CHECK(part_ms(sums, LaneState::lock) == doctest::Approx(10));
  CHECK(1e3 * sums.by_place[0].causes.lock_s == doctest::Approx(10));
  REQUIRE(sums.locks.size() == 1);
  CHECK(sums.locks[0].wait_s == doctest::Approx(0.010));
  CHECK(sums.locks[0].hold_s == doctest::Approx(0.010));  // one of two was timed
  CHECK(sums.locks[0].hold_off_s == doctest::Approx(0.006));

  HandLog late(2, 20);
  const auto begun = late.region(Sharing::even, 0, 20, 2, 2);
  late.piece(0, 10, begun, 10, 0);
  late.until(1, 10, Doing::away, 0, 0);
  late.piece(1, 20, begun, 10, 1);
  sums = late.sums();
  CHECK(part_ms(sums, LaneState::dispatch) == doctest::Approx(10));
  CHECK(1e3 * sums.by_place[0].causes.late_s == doctest::Approx(10));

  HandLog first(2, 20);  // of its crew: the other worker is only being started
  const auto fresh = first.region(Sharing::even, 0, 20, 2, 2);
  first.log().regions[0].grows = true;
  first.piece(0, 4, fresh, 4, 0);
  first.until(1, 10, Doing::away, 0, 0);
  first.piece(1, 20, fresh, 10, 1);
  sums = first.sums();
  CHECK(part_ms(sums, LaneState::dispatch) == 0);
  CHECK(part_ms(sums, LaneState::start_up) == doctest::Approx(10 + 6));  // and whoever waits for it
  CHECK(part_ms(sums, LaneState::imbalance) == doctest::Approx(10));
}

TEST_CASE("uneven pieces of many items are replayed cut finer") {
  HandLog hand(2, 30);
  const auto region = hand.region(Sharing::even, 0, 30, 200, 2);
  hand.piece(0, 30, region, 30, 0, 100);
  hand.piece(1, 10, region, 10, 100, 100);
  const LaneSums sums = hand.sums();
  CHECK(sums.by_place[0].finer_s == doctest::Approx(0.020).epsilon(0.1));
  CHECK(sums.by_place[0].tapering_s == doctest::Approx(0.020).epsilon(0.1));
}

TEST_CASE("a forked worker that has not come yet is starting up; the parent taking in data is moving it") {
  HandLog hand(2, 40);
  const auto region = hand.region(Sharing::processes, 0, 40, 2, 2);
  hand.log().regions[0].grows = true;  // forked for it
  for (std::size_t lane = 0; lane < 2; ++lane) {
    hand.until(lane, 5, Doing::away, 0, 0);
    hand.piece(lane, 20, region, 15, lane);
  }
  Stretch taking;
  taking.end_ns = 25 * ms;
  hand.log().parent.push_back(taking);
  taking.end_ns = 35 * ms;
  taking.doing = Doing::moving;
  hand.log().parent.push_back(taking);
  const LaneSums sums = hand.sums();
  CHECK(part_ms(sums, LaneState::start_up) == doctest::Approx(10));
  CHECK(part_ms(sums, LaneState::running) == doctest::Approx(30));
  CHECK(part_ms(sums, LaneState::moving_data) == doctest::Approx(20));
  CHECK(part_ms(sums, LaneState::dispatch) == doctest::Approx(20));
}

TEST_CASE("in a recursion nothing is ready until somebody calls; from then on work was there and not found") {
  HandLog hand(2, 20);
  const auto region = hand.region(Sharing::forks, 0, 20, 0, 2);
  hand.until(0, 20, Doing::body, region, 20);
  hand.until(1, 12, Doing::away, 0, 0).called_ns = 9 * ms;
  hand.piece(1, 20, region, 8, 0);
  const LaneSums sums = hand.sums();
  CHECK(part_ms(sums, LaneState::no_work) == doctest::Approx(9));
  CHECK(part_ms(sums, LaneState::dispatch) == doctest::Approx(3));
}

TEST_CASE("waits of a pipeline are told by what was short") {
  HandLog hand(2, 20);
  const auto region = hand.region(Sharing::stages, 0, 20, 2, 2);
  hand.until(0, 20, Doing::body, region, 20);
  Stretch& taken = hand.until(1, 12, Doing::stage, region, 0);
  taken.shortage = Shortage::stage_taken;
  taken.about = "pack";
  hand.until(1, 20, Doing::stage, region, 0).shortage = Shortage::buffer_full;
  hand.log().stages.push_back({"pack", true, 15 * ms, 3});
  const LaneSums sums = hand.sums();
  CHECK(part_ms(sums, LaneState::stage) == doctest::Approx(20));
  CHECK(1e3 * sums.buffer_full_s == doctest::Approx(8));
  REQUIRE(sums.stages.size() == 1);
  CHECK(sums.stages[0].waited_s == doctest::Approx(0.012));
}

TEST_CASE("a log that lost something, or was not at its end, says so; an empty one is all the caller's") {
  HandLog lost(1, 10);
  lost.log().lost = 1;
  CHECK(!lost.sums().withheld.empty());
  HandLog unfinished(1, 10);
  unfinished.log().unfinished = true;
  CHECK(!unfinished.sums().withheld.empty());
  HandLog empty(2, 10);
  empty.until(0, 10, Doing::serial, 0, 3);
  const LaneSums sums = empty.sums();
  CHECK(part_ms(sums, LaneState::serial) == doctest::Approx(10));
  CHECK(part_ms(sums, LaneState::serial_wait) == doctest::Approx(10));
  CHECK(sums.withheld.empty());
}
