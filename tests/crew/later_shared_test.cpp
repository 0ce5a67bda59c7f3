// Continuations where locks are held, of many threads and several crews, without memory, and at random.
#include <doctest/doctest.h>

#include <atomic>
#include <chrono>
#include <mutex>
#include <new>
#include <optional>
#include <random>
#include <thread>
#include <tuple>
#include <vector>

#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/when.hpp"
#include "support/allocations.hpp"
#include "support/at_once.hpp"
#include "support/stress.hpp"

using namespace antcrew;
using namespace std::chrono_literals;
using test::Deadline;

TEST_CASE("who waits takes up nothing else: a lock may be held meanwhile") {
  const Deadline deadline("lock held");
  for (const int workers : {1, 2, 3}) {
    CAPTURE(workers);
    TaskCrew crew(workers);
    std::mutex lock;
    std::atomic<int> others{0};
    TaskGroup group(crew);
    for (int round = 0; round < 50; ++round) {
      const std::lock_guard<std::mutex> held(lock);
      for (int k = 0; k < 4; ++k) {
        group.begin([&] {
          const std::lock_guard<std::mutex> mine(lock);
          ++others;
        });
      }
      std::vector<Later<int>> laters;
      for (int k = 0; k < 4; ++k) laters.push_back(crew.begin([k] { return k; }).then([](int a) { return a + 1; }));
      CHECK(when_all(std::move(laters)).then([](const std::vector<int>& all) { return all.back(); }).get() == 4);
    }
    group.wait();
    CHECK(others == 200);
  }
}

TEST_CASE("many threads go on from work of one crew, more than are workers of it at a time") {
  const Deadline deadline("many threads", 120s);
  for (const int workers : {1, 2}) {
    TaskCrew crew(workers);
    std::atomic<long> sum{0};
    std::vector<std::thread> threads;
    for (int t = 0; t < 20; ++t) {
      threads.emplace_back([&, t] {
        for (int round = 0; round < 20; ++round) {
          std::vector<Later<int>> laters;
          for (int k = 0; k < 3; ++k) {
            laters.push_back(crew.begin([t] { return t; }).then([](int a) {
              std::this_thread::sleep_for(100us);
              return a;
            }));
          }
          if (round % 2 == 0) {
            for (const int each : when_all(std::move(laters)).get()) sum += each;
          } else {
            FirstReady<int> ready = when_any(std::move(laters)).get();
            for (Later<int>& each : ready.laters) sum += each.get();
          }
        }
      });
    }
    for (std::thread& thread : threads) thread.join();
    CHECK(sum == 3L * 20 * 190);
  }
}

TEST_CASE("of several crews: it goes on with the first one's, which does not end before") {
  const Deadline deadline("several crews");
  const auto slow = [] {
    std::this_thread::sleep_for(3ms);
    return 5;
  };
  for (const int workers : {1, 2}) {
    CAPTURE(workers);
    TaskCrew other(workers);
    std::atomic<int> sum{0};
    {
      TaskCrew crew(workers);
      CHECK(when_all(crew.begin([] { return 1; }), other.begin(slow)).get() == std::tuple(1, 5));
      std::vector<Later<int>> laters;
      laters.push_back(other.begin(slow));
      laters.push_back(crew.begin(slow).then([](int a) { return a; }));
      CHECK(when_any(std::move(laters)).get().laters.size() == 2);
      // A crew of one does what it was given once somebody waits for it.
      if (workers > 1) when_all(crew.begin([] { return 1; }), other.begin(slow)).then([&](auto) { sum = 6; });
    }
    CHECK(sum == (workers > 1 ? 6 : 0));
  }
}

TEST_CASE("without memory nothing is begun, and the handles are as they were") {
  const Deadline deadline("no memory");
  TaskCrew crew(2);
  for (std::size_t k = 0; k < 12; ++k) {
    std::vector<Later<int>> laters;
    for (int j = 0; j < 3; ++j) laters.push_back(crew.begin([j] { return j; }));
    std::optional<Later<int>> last;
    int done = 0;
    try {
      const test::Refusing refusing(k);
      laters[0] = laters[0].then([](int a) { return a + 1; });
      done = 1;
      last = when_all(std::move(laters)).then([](std::vector<int> all) { return all[0] + all[1] + all[2]; });
      done = 2;
    } catch (const std::bad_alloc&) {
      if (done == 0) CHECK(laters[0].get() == 0);
      if (done == 1 && !laters.empty()) CHECK(laters[0].get() == 1);
    }
    if (last) {
      try {
        const int sum = last->get();
        CHECK(sum == 4);
      } catch (const std::bad_alloc&) {  // by the work itself
      }
    }
    laters.clear();
    static_cast<void>(crew.settle());
  }
}

TEST_CASE("random trees of continuations, with random delays, by two threads at once") {
  const Deadline deadline("random trees", 240s);
  test::Stress stress;
  INFO("ANTCREW_STRESS_SEED=" << test::seed());
  const std::size_t rounds = test::operations / 20'000;
  for (std::size_t round = 0; round < rounds; ++round) {
    TaskCrew crew(stress.workers());
    std::atomic<long> ran{0};
    std::vector<std::thread> threads;
    std::atomic<long> expected{0};
    for (const std::uint64_t own : {stress.random(), stress.random()}) {
      threads.emplace_back([&, own] {
        std::mt19937_64 random(own);
        std::vector<Later<long>> open;
        for (int step = 0; step < 300; ++step) {
          switch (random() % 7) {
            case 0:
            case 1:
            case 2:
              open.push_back(crew.begin([&] { return ++ran, 1L; }));
              ++expected;
              break;
            case 3:
              if (open.empty()) break;
              open.back() = open.back().then([&](long a) { return ++ran, a; });
              ++expected;
              break;
            case 4:
              if (open.size() < 3) break;
              open = [&] {
                std::vector<Later<long>> one;
                one.push_back(when_all(std::move(open)).then([&](const std::vector<long>& all) {
                  ++ran;
                  return static_cast<long>(all.size());
                }));
                return one;
              }();
              ++expected;
              break;
            case 5:
              if (open.empty()) break;
              open = when_any(std::move(open)).get().laters;
              break;
            default:
              if (open.empty()) break;
              if (random() % 2 == 0) CHECK(open.back().get() > 0);
              open.pop_back();  // perhaps dropped
          }
        }
        for (Later<long>& later : open) {
          if (random() % 2 == 0) static_cast<void>(later.get());
        }
      });
    }
    for (std::thread& thread : threads) thread.join();
    static_cast<void>(crew.settle());
    CHECK(ran == expected);
  }
}
