#include "antcrew/log/timeline.hpp"

#include <doctest/doctest.h>

using namespace antcrew::internal;
using doctest::Approx;

namespace {

Stretch until(std::int64_t end_us, Doing doing, std::uint32_t pieces = 0) {
  Stretch stretch;
  stretch.end_ns = 1000 + end_us * 1000;
  stretch.doing = doing;
  stretch.pieces = pieces;
  return stretch;
}

LaneLog log_of(std::vector<std::vector<Stretch>> lanes, std::int64_t wall_us) {
  LaneLog log;
  log.begin_ns = 1000;
  log.end_ns = 1000 + wall_us * 1000;
  log.lanes = std::move(lanes);
  return log;
}

}  // namespace

TEST_CASE("a timeline tells what each worker did, without gaps, from the begin of the call") {
  static const int lock = 0;
  Stretch locked = until(60, Doing::lock);
  locked.about = &lock;
  Stretch merge = until(100, Doing::serial);
  merge.phase = "merge";
  LaneLog log = log_of({{until(20, Doing::serial), until(40, Doing::body, 1), locked, until(80, Doing::body, 1), merge},
                        {until(20, Doing::away), until(50, Doing::body, 3)}},
                       100);
  log.locks.emplace_back().address = &lock;
  log.locks.front().name = "map";
  const Timeline line = timeline_of(log);
  REQUIRE(line.lanes.size() == 2);
  const auto& first = line.lanes[0].stretches;
  REQUIRE(first.size() == 5);
  CHECK(first[2].what == TimelineKind::lock);
  CHECK(line.names.at(static_cast<std::size_t>(first[2].name)) == "map");
  CHECK(line.names.at(static_cast<std::size_t>(first[4].name)) == "merge");
  CHECK(first[1].from_s == Approx(20e-6));
  const auto& second = line.lanes[1].stretches;
  REQUIRE(second.size() == 3);
  CHECK(second[1].pieces == 3);
  CHECK(second[2].what == TimelineKind::idle);
  for (const TimelineLane& lane : line.lanes) {
    CHECK(lane.stretches.front().from_s == 0);
    CHECK(lane.stretches.back().to_s == Approx(100e-6));
    for (std::size_t k = 1; k < lane.stretches.size(); ++k)
      CHECK(lane.stretches[k].from_s == lane.stretches[k - 1].to_s);
  }
}

TEST_CASE("a hundred thousand pieces are merged until they fit, the long ones stay, and it is told") {
  std::vector<Stretch> lane;
  for (int k = 1; k <= 50'000; ++k) {
    lane.push_back(until(2 * k - 1, Doing::body, 1));
    lane.push_back(until(2 * k, Doing::waiting));
  }
  lane.push_back(until(150'000, Doing::lock));
  const Timeline line = timeline_of(log_of({lane}, 150'000));
  CHECK(line.lanes[0].stretches.size() <= most_timeline_stretches);
  CHECK(line.merged > 90'000);
  CHECK(line.resolution_s > 0);
  const TimelineStretch& last = line.lanes[0].stretches.back();
  CHECK(last.what == TimelineKind::lock);
  CHECK(last.to_s - last.from_s == Approx(0.05).epsilon(0.01));
  std::int64_t pieces = 0;
  for (const TimelineStretch& stretch : line.lanes[0].stretches) pieces += stretch.pieces;
  CHECK(pieces == 50'000);
}

TEST_CASE("of sixty-four workers the slowest, the fastest and two typical ones are kept") {
  std::vector<std::vector<Stretch>> lanes;
  for (int lane = 0; lane < 64; ++lane) lanes.push_back({until(lane == 9 ? 90 : lane == 40 ? 5 : 50, Doing::body, 1)});
  const Timeline line = timeline_of(log_of(lanes, 100));
  REQUIRE(line.lanes.size() == 4);
  CHECK(line.all_lanes == 64);
  CHECK(line.lanes.front().worker == 9);
  CHECK(line.lanes.back().worker == 40);
}

TEST_CASE("an empty log has an empty timeline") {
  CHECK(timeline_of(log_of({}, 0)).lanes.empty());
  CHECK(timeline_of(log_of({{}}, 10)).lanes.at(0).stretches.size() == 1);
}
