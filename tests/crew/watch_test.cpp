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
  const CrewLog log = [&] {
    Watch watch(crew);
    crew.both([] { std::this_thread::sleep_for(30ms); }, [] { std::this_thread::sleep_for(10ms); });
    return watch.log();
  }();
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

TEST_CASE("a watch adds up for as long as it likes, and what it was paused for is left out") {
  ThreadCrew crew(2);
  Watch watch(crew);
  constexpr int many = 70'000;  // more than a log has room for
  for (int k = 0; k < many; ++k) crew.each(2, [](std::size_t) {});
  CHECK(watch.log().calls == many);
  CHECK(watch.log().workers[0].pieces == many);
  CHECK(watch.log().workers[1].pieces == many);
  CHECK(watch.ledger([&] { crew.each(2, [](std::size_t) {}); }).regions == 1);
  CHECK(watch.log().calls == many);
  std::thread([&] { crew.each(2, [](std::size_t) {}); }).join();  // another thread's
  CHECK(watch.log().calls == many);
  crew.each(2, [](std::size_t) {});
  CHECK(watch.log().calls == many + 1);
  const CrewLog log = watch.log();
  for (const CrewLog::Worker& worker : log.workers) {
    CHECK(worker.busy_s <= log.calls_s);
    CHECK(worker.cpu_s <= worker.busy_s);
  }
  CHECK_THROWS_WITH_AS(Watch{crew}, doctest::Contains("another log"), Error);
}

TEST_CASE("computing bodies are on a processor, sleeping ones are not, however short their calls are") {
  TaskCrew crew(2);
  Watch watch(crew);
  const auto spin = [](std::chrono::microseconds time) {
    const auto end = std::chrono::steady_clock::now() + time;
    while (std::chrono::steady_clock::now() < end) {
    }
  };
  for (int k = 0; k < 300; ++k) crew.each(2, Grain{1}, [&](std::size_t) { spin(100us); });
  const CrewLog computed = watch.log();
  const double busy_s = computed.workers[0].busy_s + computed.workers[1].busy_s;
  const double cpu_s = computed.workers[0].cpu_s + computed.workers[1].cpu_s;
  CHECK(busy_s >= 0.06);
  CHECK(cpu_s >= 0.2 * busy_s);  // on a machine that is not idle
  for (int k = 0; k < 30; ++k) crew.each(2, Grain{1}, [&](std::size_t) { std::this_thread::sleep_for(1ms); });
  const CrewLog slept = watch.log();
  double slept_s = 0;
  double on_s = 0;
  for (std::size_t k = 0; k < 2; ++k) {
    slept_s += slept.workers[k].busy_s - computed.workers[k].busy_s;
    on_s += slept.workers[k].cpu_s - computed.workers[k].cpu_s;
  }
  CHECK(slept_s >= 0.06);
  CHECK(on_s <= 0.5 * slept_s);
}

TEST_CASE("two such logs at once are refused, and one that threw is closed") {
  ThreadCrew crew(2);
  Watch watch(crew);
  CHECK_THROWS_WITH_AS(watch.ledger([&] { watch.ledger([] {}); }), doctest::Contains("another log"), Error);
  CHECK_THROWS_AS(watch.ledger([] { throw 7; }), int);
  CHECK(watch.ledger([&] { crew.each(2, [](std::size_t) {}); }).regions == 1);
}
