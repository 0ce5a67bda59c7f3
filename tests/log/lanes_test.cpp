#include "antcrew/log/lanes.hpp"

#include <doctest/doctest.h>

#include <chrono>
#include <thread>

#include "antcrew/log/lane_sums.hpp"
#include "antcrew/log/phase.hpp"

using namespace antcrew;
using namespace antcrew::internal;
using namespace std::chrono_literals;

namespace {

struct Book {
  explicit Book(int lanes) : book(LaneBook::create(lanes)) { book->open(); }
  ~Book() { LaneBook::destroy(book); }
  Book(const Book&) = delete;
  Book& operator=(const Book&) = delete;
  LaneBook* book;
};

}  // namespace

TEST_CASE("lanes of two threads, written by themselves, add up to both times the call") {
  Book two(2);
  std::thread other([&] {
    const InLane in(two.book, 1, {Doing::body, Shortage::none, 0, nullptr, nullptr});
    CHECK(in.lane() != nullptr);
    std::this_thread::sleep_for(10ms);
  });
  other.join();
  two.book->close();
  const LaneSums sums = sums_of(two.book->log());
  CHECK(sums.parts_s.sum() == doctest::Approx(sums.lane_seconds()));
  CHECK(sums.parts_s[LaneState::blocked] >= 0.009);
  CHECK(sums.parts_s[LaneState::serial] > 0.009);
  CHECK(sums.withheld.empty());
}

TEST_CASE("a lane has one thread at a time: the second one is outside, and counted") {
  Book one(2);
  const InLane mine(one.book, 1, {});
  CHECK(mine.lane() == nullptr);  // the caller is in a lane already
  std::thread first([&] {
    const InLane in(one.book, 1, {});
    CHECK(in.lane() != nullptr);
    std::thread second([&] { CHECK(InLane(one.book, 1, {}).lane() == nullptr); });
    second.join();
  });
  first.join();
  one.book->close();
  CHECK(one.book->log().calls_outside == 1);
}

TEST_CASE("short pieces are written together, long ones each, and none is lost") {
  Book one(1);
  Lane& lane = one.book->lane(0);
  {
    PieceLog pieces(&lane);
    for (std::uint64_t k = 0; k < 100'000; ++k) pieces.ended(k, 1);
  }
  {
    PieceLog pieces(&lane);
    for (std::uint64_t k = 0; k < 3; ++k) {
      std::this_thread::sleep_for(1ms);
      pieces.ended(k, 7);
    }
  }
  one.book->close();
  const LaneLog log = one.book->log();
  std::uint64_t pieces = 0;
  std::uint64_t items = 0;
  for (const Stretch& stretch : log.lanes[0]) {
    pieces += stretch.pieces;
    items += stretch.items;
  }
  CHECK(pieces == 100'003);
  CHECK(items == 100'021);
  CHECK(log.lanes[0].size() < 20'000);
  CHECK(log.lost == 0);
}

TEST_CASE("a full log merges what is short and says when even that found no room") {
  Book one(1);
  Lane& lane = one.book->lane(0);
  for (int k = 0; k < 60'000; ++k) {  // two kinds in turn: nothing to merge
    lane.push({Doing::body, Shortage::none, 0, nullptr, nullptr});
    lane.pop();
  }
  one.book->close();
  const LaneLog log = one.book->log();
  CHECK(log.lost > 0);
  CHECK(!sums_of(log).withheld.empty());
}

TEST_CASE("a phase is that of the work that opened it, and the caller's own time is told by it") {
  Journal* journal = Journal::create();
  open_journal.store(journal);
  Book one(1);
  {
    const Phase merge("merge");
    std::this_thread::sleep_for(5ms);
  }
  std::this_thread::sleep_for(5ms);
  one.book->close();
  open_journal.store(nullptr);
  Journal::destroy(journal);
  const LaneSums sums = sums_of(one.book->log());
  REQUIRE(sums.phases.count("merge") == 1);
  CHECK(sums.phases.at("merge")[LaneState::serial] >= 0.005);
  CHECK(sums.phases.at("merge")[LaneState::serial] < sums.parts_s[LaneState::serial] - 0.004);
}

TEST_CASE("without an open book nothing is written") {
  CHECK(open_lanes.load() == nullptr);
  const OuterRegion region(1, Sharing::even, 2, "ThreadCrew");
  CHECK(region.book() == nullptr);
  CHECK(InLane(nullptr, 0, {}).lane() == nullptr);
}

TEST_CASE("a crew that is larger than what was asked for gets its lanes, and they count") {
  LaneBook* book = LaneBook::create(1, 8);
  book->open();
  {
    const OuterRegion region(3, Sharing::even, 3, "ThreadCrew");
    REQUIRE(region.book() == book);
    std::thread third([&] {
      CHECK(InLane(book, 2, {Doing::body, Shortage::none, 1, nullptr, nullptr}).lane() != nullptr);
    });
    third.join();
  }
  book->close();
  const LaneLog log = book->log();
  LaneBook::destroy(book);
  CHECK(log.lanes.size() == 3);
  CHECK(sums_of(log).parts_s.sum() == doctest::Approx(sums_of(log).lane_seconds()));
}
