#include "antcrew/crew/watch.hpp"

#include <doctest/doctest.h>

#include <chrono>
#include <thread>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"

using namespace antcrew;
using namespace std::chrono_literals;

TEST_CASE("a watched ThreadCrew tells who was busy: planted sleeps come back") {
  ThreadCrew crew(2);
  crew.each(2, [](std::size_t) {});
  Watch watch(crew);
  for (int again = 0; again < 3; ++again) {
    crew.ranges(2, [](Range range) { std::this_thread::sleep_for(range.first == 0 ? 20ms : 5ms); });
  }
  std::this_thread::sleep_for(10ms);  // between calls
  const CrewLog log = watch.log();
  CHECK(log.calls == 3);
  REQUIRE(log.workers.size() == 2);
  CHECK(log.workers[0].pieces == 3);
  CHECK(log.workers[1].pieces == 3);
  CHECK(log.workers[0].busy_s >= 0.060);
  CHECK(log.workers[1].busy_s >= 0.015);
  CHECK(log.workers[1].busy_s < log.workers[0].busy_s);
  CHECK(log.workers[0].cpu_s < 0.5 * log.workers[0].busy_s);  // it slept
  CHECK(log.calls_s >= log.workers[0].busy_s);
  CHECK(log.watched_s >= log.calls_s + 0.010);
  CHECK(log.idle_s() >= 0.5 * (log.workers[0].busy_s - log.workers[1].busy_s));
  CHECK(log.utilisation() < 1);
}

TEST_CASE("a second watch begins at nothing, a crew of one can be watched, and calls inside bodies are part of those") {
  ThreadCrew crew(1);
  {
    Watch first(crew);
    crew.each(10, Split::chunks(1), [](std::size_t) {});
    CHECK(first.log().workers[0].pieces == 10);
  }
  crew.each(10, [](std::size_t) {});  // unwatched
  Watch second(crew);
  CHECK(second.log().calls == 0);
  crew.each(4, Split::chunks(1), [&](std::size_t) { crew.each(7, Split::chunks(1), [](std::size_t) {}); });
  CHECK(second.log().calls == 1);
  CHECK(second.log().workers[0].pieces == 4);
}

TEST_CASE("a watched TaskCrew counts tasks and thefts, and time without work is not busy") {
  TaskCrew crew(3);
  Watch watch(crew);
  crew.both([] { std::this_thread::sleep_for(30ms); }, [] { std::this_thread::sleep_for(10ms); });
  const CrewLog log = watch.log();
  CHECK(log.calls == 1);
  std::int64_t stolen = 0;
  double busy_s = 0;
  for (const CrewLog::Worker& worker : log.workers) {
    stolen += worker.stolen;
    busy_s += worker.busy_s;
  }
  CHECK(stolen == 1);
  CHECK(busy_s >= 0.040);
  CHECK(log.idle_s() >= 0.040);  // of three workers in 30 ms: 20 of one and 30 of another
  TaskCrew alone(1);
  Watch one(alone);
  alone.each(10, Grain{1}, [](std::size_t) { std::this_thread::sleep_for(1ms); });
  CHECK(one.log().workers[0].busy_s >= 0.010);
  CHECK(one.log().utilisation() == doctest::Approx(1).epsilon(0.2));
}

TEST_CASE("a stretch of a program is told state by state: planted sleeps come back") {
  ThreadCrew crew(4);
  Watch watch(crew);
  const auto sums = watch.ledger([&] {
    crew.each(4, [](std::size_t) { std::this_thread::sleep_for(10ms); });
    std::this_thread::sleep_for(20ms);
  });
  CHECK(sums.lanes == 4);
  CHECK(sums.withheld.empty());
  CHECK(sums.parts_s.sum() == doctest::Approx(sums.lane_seconds()));
  CHECK(sums.parts_s[internal::LaneState::blocked] >= 0.039);
  CHECK(sums.parts_s[internal::LaneState::serial_wait] >= 0.059);
  REQUIRE(sums.by_place.size() == 1);
  CHECK(sums.by_place[0].place.rfind("watch_test.cpp:", 0) == 0);
  CHECK(watch.ledger([] {}).regions == 0);  // and again
}

TEST_CASE("two such logs at once are refused, and one that threw is closed") {
  ThreadCrew crew(2);
  Watch watch(crew);
  CHECK_THROWS_WITH_AS(watch.ledger([&] { watch.ledger([] {}); }), doctest::Contains("another log"), Error);
  CHECK_THROWS_AS(watch.ledger([] { throw 7; }), int);
  CHECK(watch.ledger([&] { crew.each(2, [](std::size_t) {}); }).regions == 1);
}
