#include "antcrew/crew/task_group.hpp"

#include <doctest/doctest.h>

#include <atomic>
#include <chrono>
#include <stdexcept>
#include <thread>

#include "antcrew/machine/clock.hpp"

using namespace antcrew;
using namespace std::chrono_literals;

namespace {

#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
constexpr int many_open = 200'000;
#else
constexpr int many_open = 10'000'000;
#endif

}  // namespace

TEST_CASE("children run children, in the same group and in groups of their own") {
  for (const int workers : {1, 2, 7}) {
    TaskCrew crew(workers);
    std::atomic<int> visited{0};
    TaskGroup group(crew);
    struct Visit {
      static void node(TaskCrew& c, TaskGroup& g, std::atomic<int>& seen, int depth) {
        ++seen;
        if (depth == 0) return;
        g.begin([&c, &g, &seen, depth] { node(c, g, seen, depth - 1); });
        TaskGroup own(c);
        own.begin([&c, &own, &seen, depth] { node(c, own, seen, depth - 1); });
        own.wait();
      }
    };
    group.begin([&] { Visit::node(crew, group, visited, 10); });
    group.wait();
    CHECK(visited == 2047);
  }
}

TEST_CASE("every child runs, and all exceptions are collected") {
  TaskCrew crew(3);
  TaskGroup group(crew);
  std::atomic<int> ran{0};
  for (int k = 0; k < 100; ++k) {
    group.begin([&, k] {
      ++ran;
      if (k % 10 == 0) throw std::runtime_error("child");
    });
  }
  CHECK_THROWS_WITH_AS(group.wait(), "child", std::runtime_error);
  CHECK(ran == 100);
  CHECK(group.errors().size() == 10);
  group.begin([] {});
  group.wait();  // used again
  CHECK(group.errors().empty());
}

TEST_CASE("a group that is not waited for waits at its end, and its exception comes out of the crew") {
  TaskCrew crew(2);
  std::atomic<bool> ended{false};
  {
    TaskGroup group(crew);
    group.begin([&] {
      std::this_thread::sleep_for(10ms);
      ended = true;
      throw std::runtime_error("unseen");
    });
  }
  CHECK(ended);
  CHECK_THROWS_WITH_AS(crew.settle(), "unseen", std::runtime_error);
}

TEST_CASE("children that have not begun when a stop is asked for are left out") {
  TaskCrew crew(2);
  std::stop_source stop;
  TaskGroup group(crew, stop.get_token());
  std::atomic<int> ran{0};
  std::atomic<int> late{0};  // begun after it: the other worker may have asked just before
  crew.each(1, [&](std::size_t) {
    for (int k = 0; k < 1000; ++k) {
      group.begin([&] {
        if (stop.stop_requested()) ++late;
        if (++ran == 10) stop.request_stop();
        std::this_thread::sleep_for(100us);
      });
    }
    group.wait();
  });
  CHECK(ran >= 10);
  CHECK(late <= 1);
}

TEST_CASE("millions of open children overflow nothing") {
  for (const int workers : {1, 2}) {
    TaskCrew crew(workers);
    std::atomic<long> sum{0};
    crew.each(1, [&](std::size_t) {
      TaskGroup group(crew);
      for (int k = 0; k < many_open / workers; ++k)
        group.begin([&sum] { sum.fetch_add(1, std::memory_order_relaxed); });
      group.wait();
    });
    CHECK(sum == many_open / workers);
  }
}

TEST_CASE("children started from outside run while the starter goes on") {
  TaskCrew crew(3);
  TaskGroup group(crew);
  std::atomic<int> ran{0};
  for (int k = 0; k < 4; ++k) {
    group.begin([&] {
      std::this_thread::sleep_for(10ms);
      ++ran;
    });
  }
  for (int tries = 0; tries < 500 && ran < 4; ++tries) std::this_thread::sleep_for(1ms);
  CHECK(ran == 4);
  group.wait();
}
