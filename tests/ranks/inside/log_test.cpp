// The log of all ranks around a call, as a study keeps it.
#include <doctest/doctest.h>

#include <chrono>
#include <cstddef>
#include <stdexcept>
#include <thread>
#include <vector>

#include "antcrew/log/lane_book.hpp"
#include "antcrew/log/lane_sums.hpp"
#include "ranks/inside/crew.hpp"

using namespace antcrew;
using internal::LaneState;
using internal::LaneSums;

namespace {

void rest_ms(int ms) {
  std::this_thread::sleep_for(std::chrono::milliseconds(ms));
}

template <class Call>
LaneSums logged(Call&& call) {
  RankCrew& crew = test::crew();
  internal::LaneBook* book = internal::LaneBook::create(crew.workers());
  crew.team().open_log();
  book->open();
  try {
    call(crew);
  } catch (...) {
    book->close();
    internal::LaneBook::destroy(book);
    throw;
  }
  book->close();
  internal::LaneLog log = book->log();
  internal::LaneBook::destroy(book);
  crew.team().close_log(log);
  const LaneSums sums = internal::sums_of(log);
  REQUIRE(sums.withheld == "");
  REQUIRE(sums.ranks);
  CHECK(sums.lanes == crew.workers());
  CHECK(sums.ranks->parts_s.size() == static_cast<std::size_t>(crew.workers()));
  CHECK(sums.parts_s.sum() == doctest::Approx(sums.lane_seconds()));
  CHECK(sums.parts_s[LaneState::unaccounted] < 0.01 * sums.lane_seconds());
  return sums;
}

double received(const LaneSums& sums, int rank) {
  double bytes = 0;
  for (const auto& sent : sums.ranks->sent) bytes += sent.to == rank ? sent.bytes : 0;
  return bytes;
}

}  // namespace

TEST_CASE("each rank's own time: who rests longer is at it longer, and the others wait for the last") {
  const int ranks = test::crew().workers();
  constexpr double unit_s = 10e-3;
  const LaneSums sums = logged([](RankCrew& crew) { crew.on_each([] { rest_ms(10 * (1 + current_rank().rank)); }); });
  const auto& last = sums.ranks->parts_s.back();
  for (int rank = 0; rank < ranks; ++rank) {
    CAPTURE(rank);
    const auto& parts = sums.ranks->parts_s[static_cast<std::size_t>(rank)];
    const double blocked_s = parts[LaneState::blocked];
    CHECK(blocked_s >= unit_s * (1 + rank) * 0.95);
    CHECK(sums.ranks->clock_off_s[static_cast<std::size_t>(rank)] < 0.1);
    // Whatever a rank was longer at rest than it meant to be: the rest of the call it was idle, or waited to run.
    const double idle_s = parts[LaneState::imbalance] + parts[LaneState::dispatch] + parts[LaneState::waiting_to_run] +
                          parts[LaneState::serial_wait] + parts[LaneState::moving_data];
    CHECK(idle_s >= 0.8 * (last[LaneState::blocked] - blocked_s) - unit_s / 2);
  }
  REQUIRE(sums.by_place.size() == 1);
  CHECK(sums.by_place[0].place == "on_each");
  CHECK(sums.by_place[0].pieces == ranks);
}

TEST_CASE("pieces on demand, one at a time: all of them are in some lane, however many ranks there are") {
  const LaneSums sums = logged([](RankCrew& crew) {
    const auto all = crew.collect(40, Split::chunks(3), [](std::size_t i) {
      rest_ms(1);
      return i;
    });
    CHECK(all[39] == 39);
  });
  REQUIRE(sums.by_place.size() == 1);
  CHECK(sums.by_place[0].sharing == "rank pieces");
  CHECK(sums.by_place[0].pieces == (test::crew().workers() == 1 ? 1 : 14));  // one rank takes all at once
  CHECK(sums.by_place[0].body_s >= 40e-3);
}

TEST_CASE("what is sent is counted to the byte's receiver") {
  const LaneSums sums = logged([](RankCrew& crew) {
    const std::vector<double> items(100'000, 1.0);
    const RankArray<double> array = crew.spread(items);
    CHECK(crew.gather(array).size() == items.size());
  });
  const int ranks = test::crew().workers();
  for (int rank = 0; rank < ranks; ++rank) {
    CAPTURE(rank);
    const double share = 8.0 * 100'000 / ranks;
    const double must = ranks == 1 ? 0 : rank == 0 ? share * (ranks - 1) : share;
    CHECK(received(sums, rank) >= must);
    CHECK(received(sums, rank) <= must + 20'000);
  }
}

TEST_CASE("a call that throws leaves no log open: the next one has its own") {
  CHECK_THROWS_AS(logged([](RankCrew& crew) {
                    crew.on_each([] {
                      rest_ms(30);
                      if (current_rank().rank + 1 == current_rank().ranks) throw std::runtime_error("dry");
                    });
                  }),
                  RankThrew);
  const LaneSums sums = logged([](RankCrew& crew) { crew.on_each([] { rest_ms(2); }); });
  CHECK(sums.by_place[0].body_s < 20e-3 * test::crew().workers());
  // Nor does a call without a log write into the last one.
  test::crew().on_each([] { rest_ms(1); });
  CHECK(logged([](RankCrew&) {}).regions == 0);
}
