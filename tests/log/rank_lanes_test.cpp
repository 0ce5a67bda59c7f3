// Lanes of ranks: they run behind rank 0's orders, wait for messages, and wait while others move data.
#include <doctest/doctest.h>

#include "antcrew/log/internal/slices.hpp"
#include "antcrew/log/lane_sums.hpp"

using namespace antcrew::internal;

namespace {

constexpr std::int64_t one_ms = 1'000'000;

// Two ranks, a call of 40 ms; a region a list of begin and end.
struct TwoRanks {
  LaneLog log;

  explicit TwoRanks(std::initializer_list<std::pair<int, int>> regions) {
    log.end_ns = 40 * one_ms;
    log.lanes.resize(2);
    log.delay_at_begin_ns = 0;
    log.ranks = RankFacts();
    log.ranks->hosts = {"quay"};
    log.ranks->host_of = {0, 0};
    for (const auto& [begin, end] : regions) {
      LaneRegion region;
      region.begin_ns = begin * one_ms;
      region.end_ns = end * one_ms;
      region.workers = 2;
      region.sharing = Sharing::ranks;
      region.file = "on_each";
      log.regions.push_back(region);
    }
  }
  Stretch& until(std::size_t rank, int end, Doing doing, std::uint32_t region) {
    Stretch& stretch = log.lanes[rank].emplace_back();
    stretch.end_ns = end * one_ms;
    stretch.doing = doing;
    stretch.region = region;
    stretch.thread = static_cast<std::uint32_t>(7 + rank);
    if (doing == Doing::body) stretch.pieces = 1;
    return stretch;
  }
  LaneSums sums() const {
    const LaneSums sums = sums_of(log);
    CHECK(sums.parts_s.sum() == doctest::Approx(sums.lane_seconds()));
    LaneParts by_rank;
    for (const LaneParts& parts : sums.ranks->parts_s) {
      for (std::size_t k = 0; k < lane_states; ++k) by_rank.seconds[k] += parts.seconds[k];
    }
    for (std::size_t k = 0; k < lane_states; ++k) CHECK(by_rank.seconds[k] == doctest::Approx(sums.parts_s.seconds[k]));
    return sums;
  }
};

double of(const LaneSums& sums, std::size_t rank, LaneState state) {
  return 1e3 * sums.ranks->parts_s[rank][state];
}

}  // namespace

TEST_CASE("a rank that waits for a message waits for that rank, and its place is the call's name") {
  TwoRanks two({{0, 40}});
  two.until(0, 10, Doing::body, 1);
  two.until(0, 30, Doing::message, 1).about = awaiting(1);
  two.until(0, 40, Doing::body, 1);
  two.until(1, 2, Doing::away, 0);
  two.until(1, 40, Doing::body, 1);
  const LaneSums sums = two.sums();
  REQUIRE(sums.ranks->waits.size() == 1);
  CHECK(sums.ranks->waits[0] == MessageWait{0, 1, 0.02});
  CHECK(of(sums, 0, LaneState::message) == doctest::Approx(20));
  CHECK(of(sums, 1, LaneState::dispatch) == doctest::Approx(2));
  REQUIRE(sums.by_place.size() == 1);
  CHECK(sums.by_place[0].place == "on_each");
  CHECK(sums.by_place[0].body_s == doctest::Approx(58e-3));
}

TEST_CASE("an order that rank 0 has left behind keeps what it takes in the others") {
  // Region 1 wants no reply: rank 1 is at it while rank 0 is in region 2 already.
  TwoRanks two({{0, 5}, {5, 40}});
  two.until(0, 5, Doing::body, 1);
  two.until(0, 40, Doing::body, 2);
  two.until(1, 20, Doing::body, 1);
  two.until(1, 38, Doing::body, 2);
  two.until(1, 40, Doing::away, 0);
  two.log.regions[0].file = "exchange";
  const LaneSums sums = two.sums();
  for (const RegionFacts& facts : sums.by_place)
    CHECK(facts.body_s == doctest::Approx(facts.place == "exchange" ? 25e-3 : 53e-3));
  CHECK(of(sums, 1, LaneState::imbalance) == doctest::Approx(2));
}

TEST_CASE("who is idle while others move data, and none works, waits for the data") {
  TwoRanks two({{0, 40}});
  two.until(0, 10, Doing::body, 1);
  two.until(0, 40, Doing::waiting, 1);
  two.until(1, 20, Doing::body, 1);
  two.until(1, 36, Doing::moving, 1);
  two.until(1, 40, Doing::away, 0);
  const LaneSums sums = two.sums();
  CHECK(of(sums, 0, LaneState::imbalance) == doctest::Approx(10));
  CHECK(of(sums, 0, LaneState::moving_data) == doctest::Approx(16));
  CHECK(of(sums, 0, LaneState::dispatch) == doctest::Approx(4));
  CHECK(of(sums, 1, LaneState::moving_data) == doctest::Approx(16));
}

TEST_CASE("stretches in which data moves alone, and how much of them lies in another") {
  Slice moving{10 * one_ms, 30 * one_ms, nullptr, Doing::moving};
  Slice body{15 * one_ms, 20 * one_ms, nullptr, Doing::body};
  Slice more{28 * one_ms, 34 * one_ms, nullptr, Doing::moving};
  const auto alone = moving_alone({{moving}, {body}, {more}});
  REQUIRE(alone.size() == 2);
  CHECK(alone[0].begin_ns == 10 * one_ms);
  CHECK(alone[0].end_ns == 15 * one_ms);
  CHECK(alone[1].begin_ns == 20 * one_ms);
  CHECK(alone[1].end_ns == 34 * one_ms);
  CHECK(while_moving_s(alone, 12 * one_ms, 22 * one_ms) == doctest::Approx(5e-3));
  CHECK(while_moving_s(alone, 34 * one_ms, 50 * one_ms) == 0);
  CHECK(while_moving_s({}, 0, 50 * one_ms) == 0);
}
