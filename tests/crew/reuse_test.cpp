// What a loop has offered, under an allocator that gives the same memory to the next who asks.
#include <doctest/doctest.h>

#include <atomic>
#include <thread>

#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_group.hpp"
#include "support/allocations.hpp"
#include "support/at_once.hpp"

using namespace antcrew;

TEST_CASE("a range that others took is not mistaken for what was begun since, wherever that lies in memory") {
  const test::Deadline deadline("memory used again");
  const test::Recycling recycling;
  TaskCrew crew(2);
  std::atomic<int> items{0};
  std::atomic<int> children{0};
  for (int again = 1; again <= 2'000; ++again) {
    std::atomic<int> steps{0};
    const auto all_come_to = [&](int step) {
      for (int look = 0; steps < step && look < 100'000; ++look) std::this_thread::yield();
    };
    TaskGroup group(crew);
    crew.each(2, Grain{1}, [&](std::size_t i) {
      ++items;
      ++steps;
      all_come_to(2);  // the second item was taken by the other worker, and what it lay in has been given back
      if (i == 0) group.begin([&] { ++children; });
      ++steps;
      all_come_to(4);
    });
    group.wait();
    REQUIRE(items == 2 * again);
    REQUIRE(children == again);
  }
}

TEST_CASE("ranges that others take need no memory anew") {
  const test::Deadline deadline("memory of ranges");
  TaskCrew crew(2);
  const auto taken_by_the_other = [&](int times) {
    const std::size_t before = test::allocations();
    for (int again = 0; again < times; ++again) {
      std::atomic<int> here{0};
      crew.each(2, Grain{1}, [&](std::size_t) {
        ++here;
        for (int look = 0; here < 2 && look < 100'000; ++look) std::this_thread::yield();
      });
    }
    return test::allocations() - before;
  };
  taken_by_the_other(1'000);
  CHECK(taken_by_the_other(20'000) < 10);
}
