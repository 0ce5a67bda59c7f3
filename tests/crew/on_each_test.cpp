// Every worker once, in step.
#include <doctest/doctest.h>
#include <pthread.h>

#include <atomic>
#include <chrono>
#include <mutex>
#include <numeric>
#include <set>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/log/lane_book.hpp"
#include "antcrew/log/lane_sums.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using namespace std::chrono_literals;

TEST_CASE("each worker is called once, all at the same time, worker 0 being the caller") {
  for (const int workers : {1, 2, 3, 7, 64}) {
    CAPTURE(workers);
    ThreadCrew crew(workers);
    for (int k = 0; k < 20; ++k) {
      std::vector<std::atomic<int>> calls(static_cast<std::size_t>(workers));
      std::atomic<int> here{0};
      std::atomic<bool> met{true};
      std::thread::id first;
      crew.on_each([&](int worker, Barrier&) {
        ++calls[static_cast<std::size_t>(worker)];
        if (worker == 0) first = std::this_thread::get_id();
        if (!test::meet(here, workers)) met = false;
      });
      CHECK(met);
      CHECK(first == std::this_thread::get_id());
      for (const auto& its : calls) CHECK(its == 1);
    }
  }
}

TEST_CASE("what all wrote before a step is seen by all behind it, for many steps") {
  for (const int workers : {1, 2, 3, 7, 64}) {
    CAPTURE(workers);
    ThreadCrew crew(workers);
    const auto n = static_cast<std::size_t>(workers);
    const int steps = workers <= 2 ? 20'000 : workers <= 7 ? 1000 : 100;
    std::vector<std::int64_t> now(n, 1);
    std::vector<std::int64_t> next(n);
    std::atomic<int> wrong{0};
    crew.on_each([&](int worker, Barrier& step) {
      const auto mine = static_cast<std::size_t>(worker);
      for (int k = 0; k < steps; ++k) {
        const std::int64_t sum = std::accumulate(now.begin(), now.end(), std::int64_t{0});
        if (sum != static_cast<std::int64_t>(n) * (k + 1)) ++wrong;
        next[mine] = now[mine] + 1;
        step.wait();
        now[mine] = next[mine];
        step.wait();
      }
    });
    CHECK(wrong == 0);
    CHECK(now == std::vector<std::int64_t>(n, steps + 1));
  }
}

TEST_CASE("a body that ends is waited for no more, in whatever order bodies end") {
  for (const int workers : {2, 5, 64}) {
    ThreadCrew crew(workers);
    for (int round = 0; round < 50; ++round) {
      std::atomic<int> steps{0};
      crew.on_each([&](int worker, Barrier& step) {
        for (int k = 0; k < (worker * 7 + round) % 11; ++k) {
          step.wait();
          ++steps;
        }
      });
      int expected = 0;
      for (int worker = 0; worker < workers; ++worker) expected += (worker * 7 + round) % 11;
      CHECK(steps == expected);
    }
  }
}

TEST_CASE("where one throws the others' waits end, the first exception comes out, and the crew goes on") {
  for (const int workers : {1, 2, 7}) {
    ThreadCrew crew(workers);
    for (int thrower = 0; thrower < workers; ++thrower) {
      std::atomic<int> ended{0};
      std::atomic<int> beyond{0};
      struct CountsEnd {
        std::atomic<int>& ended;
        ~CountsEnd() { ++ended; }
      };
      CHECK_THROWS_WITH_AS(crew.on_each([&](int worker, Barrier& step) {
        const CountsEnd here{ended};
        step.wait();
        if (worker == thrower) throw std::runtime_error("reef");
        if (workers > 1) {
          step.wait();
          ++beyond;
        }
      }),
                           "reef", std::runtime_error);
      CHECK(ended == workers);
      CHECK(beyond == 0);
      int calls = 0;
      crew.each(1, [&](std::size_t) { ++calls; });
      CHECK(calls == 1);
    }
  }
}

TEST_CASE("inside a body of the same crew it is refused, where others would never come") {
  ThreadCrew crew(2);
  try {
    crew.each(2, [&](std::size_t) { crew.on_each([](int, Barrier&) {}); });
    FAIL("it was not refused");
  } catch (const Error& error) {
    CHECK(error.id() == "crew.nested");
  }
  ThreadCrew other(2);
  std::atomic<int> calls{0};
  crew.each(1, [&](std::size_t) { other.on_each([&](int, Barrier&) { ++calls; }); });
  CHECK(calls == 2);
}

TEST_CASE("waiting for the others is idle time at the join, in a ledger") {
  ThreadCrew crew(2);
  crew.on_each([](int, Barrier&) {});
  internal::LaneBook* book = internal::LaneBook::create(2);
  book->open();
  crew.on_each([](int worker, Barrier& step) {
    for (int k = 0; k < 4; ++k) {
      if (worker == 1) std::this_thread::sleep_for(10ms);
      step.wait();
    }
  });
  book->close();
  const internal::LaneSums sums = internal::sums_of(book->log());
  internal::LaneBook::destroy(book);
  CHECK(sums.parts_s[internal::LaneState::imbalance] > 0.03);
  CHECK(sums.parts_s[internal::LaneState::blocked] > 0.03);  // the sleep itself
}

TEST_CASE("threads have the crew's name and their number") {
  const auto names_of = [](auto& crew, int workers) {
    std::set<std::string> names;
    std::mutex lock;
    std::atomic<int> here{0};
    crew.each(static_cast<std::size_t>(workers), [&](std::size_t) {
      test::meet(here, workers);
      char name[16] = {};
      pthread_getname_np(pthread_self(), name, sizeof name);
      const std::lock_guard<std::mutex> held(lock);
      names.insert(name);
    });
    return names;
  };
  ThreadCrew plain(3);
  CHECK(names_of(plain, 3).count("crew 2") == 1);
  ThreadCrew named(12, {.name = "soundings of the bay"});
  CHECK(names_of(named, 12).count("soundings of 11") == 1);
  TaskCrew tasks(2, {.name = "ebb"});
  CHECK(names_of(tasks, 2).count("ebb 1") == 1);
}
