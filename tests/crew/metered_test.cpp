// Crews of all kinds while a log is open: whatever bodies do, seconds add up and answers are right.
#include <doctest/doctest.h>
#include <unistd.h>

#include <atomic>
#include <chrono>
#include <numeric>
#include <thread>

#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/standing_crew.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_graph.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/log/lane_sums.hpp"
#include "antcrew/log/lanes.hpp"

using namespace antcrew;
using namespace antcrew::internal;
using namespace std::chrono_literals;

namespace {

template <class Work>
LaneSums logged(LaneBook* book, Work&& work) {
  book->open();
  work();
  book->close();
  const LaneSums sums = sums_of(book->log());
  CHECK(sums.parts_s.sum() == doctest::Approx(sums.lane_seconds()));
  return sums;
}

struct OwnBook {
  explicit OwnBook(int workers) : book(LaneBook::create(workers, 64)) {}
  ~OwnBook() { LaneBook::destroy(book); }
  OwnBook(const OwnBook&) = delete;
  OwnBook& operator=(const OwnBook&) = delete;
  LaneBook* book;
};

std::uint64_t metered_fibonacci(TaskCrew& crew, int n) {
  if (n < 2) return static_cast<std::uint64_t>(n);
  const auto [a, b] =
      crew.both([&] { return metered_fibonacci(crew, n - 1); }, [&] { return metered_fibonacci(crew, n - 2); });
  return a + b;
}

}  // namespace

TEST_CASE("threads and tasks of 1, 2, 3 and 20 workers: seconds add up in every call") {
  for (const int workers : {1, 2, 3, 20}) {
    CAPTURE(workers);
    ThreadCrew threads(workers);
    TaskCrew tasks(workers);
    const OwnBook own(workers);
    for (int again = 0; again < 20; ++again) {
      std::atomic<int> items{0};
      const LaneSums sums = logged(own.book, [&] {
        threads.each(100, Split::chunks(3), [&](std::size_t) { items.fetch_add(1); });
        threads.each(10, [&](std::size_t) { threads.each(3, [&](std::size_t) { items.fetch_add(1); }); });
        tasks.each(100, Grain{1}, [&](std::size_t) { items.fetch_add(1); });
        CHECK(metered_fibonacci(tasks, 12) == 144);
        TaskGroup group(tasks);
        for (int k = 0; k < 20; ++k) group.begin([&] { tasks.each(5, [&](std::size_t) { items.fetch_add(1); }); });
        group.wait();
        CHECK(tasks.begin([] { return 7; }).get() == 7);
      });
      CHECK(items.load() == 100 + 30 + 100 + 100);
      CHECK(sums.lanes == workers);
      CHECK(sums.withheld.empty());
    }
  }
}

TEST_CASE("bodies that throw, wait, call another crew or another thread's crew: the log goes on") {
  ThreadCrew threads(3);
  TaskCrew tasks(3);
  ThreadCrew others(2);
  const OwnBook own(3);
  for (int again = 0; again < 10; ++again) {
    const LaneSums sums = logged(own.book, [&] {
      CHECK_THROWS_AS(threads.each(9,
                                   [](std::size_t i) {
                                     if (i == 4) throw 4;
                                   }),
                      int);
      CHECK_THROWS_AS(tasks.each(9, Grain{1},
                                 [](std::size_t i) {
                                   if (i == 4) throw 4;
                                 }),
                      int);
      threads.each(3, [&](std::size_t) { tasks.each(10, [](std::size_t) {}); });
      std::thread second([&] { others.each(4, [](std::size_t) {}); });
      tasks.each(6, Grain{1}, [&](std::size_t i) { tasks.begin([i] { return i; }).get(); });
      second.join();
    });
    CHECK(sums.calls_outside >= 1);
  }
  int seen = 0;
  threads.each(3, Split::chunks(3), [&](std::size_t) { ++seen; });  // afterwards nobody writes
  CHECK(seen == 3);
}

TEST_CASE("processes, forked and standing: their lanes lie on memory that all share, also when one dies") {
  const OwnBook own(2);
  StandingCrew standing(2);
  ProcessCrew forked(2);
  for (int again = 0; again < 3; ++again) {
    const LaneSums sums = logged(own.book, [&] {
      const auto squares = standing.collect(8, [](std::size_t i) {
        std::this_thread::sleep_for(1ms);
        return i * i;
      });
      CHECK(squares[7] == 49);
      const auto cubes = forked.collect(8, [](std::size_t i) {
        std::this_thread::sleep_for(1ms);
        return i * i * i;
      });
      CHECK(cubes[7] == 343);
    });
    CHECK(sums.withheld.empty());
    CHECK(sums.parts_s[LaneState::blocked] >= 0.015);
    CHECK(sums.parts_s[LaneState::start_up] > 0);
  }
  const LaneSums died = logged(own.book, [&] {
    CHECK_THROWS_AS(forked.collect(2,
                                   [](std::size_t i) {
                                     if (i == 0) ::_exit(3);
                                     return i;
                                   }),
                    ProcessDied);
    std::this_thread::sleep_for(2ms);  // in its own lane again
  });
  CHECK(died.parts_s[LaneState::serial] >= 0.002);
}

TEST_CASE("opened and closed while workers come and go, with random delays at borders") {
  TaskCrew tasks(4);
  ThreadCrew threads(4);
  const OwnBook own(4);
  for (int again = 0; again < 60; ++again) {
    std::atomic<int> items{0};
    const auto work = [&] {
      tasks.each(200, Grain{1}, [&](std::size_t i) {
        if (i % 50 == static_cast<std::size_t>(again % 50))
          std::this_thread::sleep_for(std::chrono::microseconds(again * 7));
        items.fetch_add(1, std::memory_order_relaxed);
      });
      threads.each(8, [&](std::size_t) { items.fetch_add(1, std::memory_order_relaxed); });
    };
    if (again % 2 == 0) {
      work();
    } else {
      logged(own.book, work);
    }
    CHECK(items.load() == 208);
  }
}
