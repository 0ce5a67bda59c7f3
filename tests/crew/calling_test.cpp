// Threads that share a crew, and what threads of a crew do at their begin and end.
#include <doctest/doctest.h>

#include <atomic>
#include <chrono>
#include <set>
#include <stdexcept>
#include <thread>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/share/locked.hpp"
#include "process_facts.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using namespace std::chrono_literals;
using test::Deadline;

TEST_CASE("threads that wait to call: all are served, one at a time, in their order") {
  const Deadline deadline("waiting to call", 120s);
  for (const int workers : {1, 2, 3}) {
    CAPTURE(workers);
    ThreadCrew crew(workers);
    std::atomic<int> inside{0}, twice{0}, done{0};
    std::vector<std::thread> threads;
    const int rounds = exact_memory ? 200 : 40;
    for (int t = 0; t < 6; ++t) {
      threads.emplace_back([&] {
        for (int round = 0; round < rounds; ++round) {
          const auto held = crew.wait_to_call();
          if (!held || ++inside > 1) ++twice;
          crew.each(8, [&](std::size_t) { ++done; });
          const auto again = crew.wait_to_call();  // it is this thread's already
          crew.each(2, [&](std::size_t) { ++done; });
          --inside;
        }
      });
    }
    for (std::thread& thread : threads) thread.join();
    CHECK(twice == 0);
    CHECK(done == 60 * rounds);
  }
}

TEST_CASE("one who waits to call gets a crew that another thread calls again and again") {
  const Deadline deadline("beside a busy caller");
  for (const int workers : {1, 2}) {
    ThreadCrew crew(workers);
    std::atomic<bool> over{false};
    std::atomic<int> refused{0};
    std::thread busy([&] {
      while (!over) {
        try {
          crew.each(4, [](std::size_t) { std::this_thread::sleep_for(50us); });
        } catch (const Error& error) {
          if (error.id() == "crew.busy") ++refused;
        }
      }
    });
    for (int round = 0; round < 20; ++round) {
      const auto held = crew.wait_to_call();
      if (workers > 1) crew.each(4, [](std::size_t) { std::this_thread::sleep_for(50us); });
    }
    over = true;
    busy.join();
  }
}

TEST_CASE("who tries to call gets the crew, or hears that another thread has it") {
  const Deadline deadline("trying");
  for (const int workers : {1, 3}) {
    CAPTURE(workers);
    ThreadCrew crew(workers);
    {
      const auto held = crew.try_to_call();
      CHECK(static_cast<bool>(held));
      CHECK(static_cast<bool>(crew.try_to_call()));
      std::thread([&] {
        const auto refused = crew.try_to_call();
        CHECK_FALSE(static_cast<bool>(refused));
        CHECK_THROWS_AS(crew.each(3, [](std::size_t) {}), Error);
      }).join();
      CHECK(crew.each(9, [&](std::size_t) { CHECK(static_cast<bool>(crew.try_to_call())); }) == 9);
    }
    std::thread([&] { CHECK(static_cast<bool>(crew.try_to_call())); }).join();
    CHECK(crew.each(3, [](std::size_t) {}) == 3);
  }
  TaskCrew tasks(2);
  CHECK(static_cast<bool>(tasks.try_to_call()));
  CHECK(static_cast<bool>(tasks.wait_to_call()));
}

TEST_CASE("each thread of a crew calls its hooks, before the first body and after the last") {
  const Deadline deadline("hooks");
  Locked<std::set<std::thread::id>> begun, ended;
  std::atomic<int> numbers{0};
  const auto at_begin = [&](int worker) {
    std::this_thread::sleep_for(2ms);
    begun.with([](auto& all) { all.insert(std::this_thread::get_id()); });
    numbers += worker;
  };
  const auto at_end = [&](int) { ended.with([](auto& all) { all.insert(std::this_thread::get_id()); }); };
  const auto try_one = [&](auto&& make) {
    begun.with([](auto& all) { all.clear(); });
    ended.with([](auto& all) { all.clear(); });
    numbers = 0;
    std::thread::id caller = std::this_thread::get_id();
    {
      auto crew = make();
      CHECK(numbers == 6);
      CHECK(begun.with([](auto& all) { return all.size(); }) == 3);
      std::atomic<int> unknown{0};
      crew.each(40, [&](std::size_t) {
        std::this_thread::sleep_for(100us);
        const std::thread::id me = std::this_thread::get_id();
        if (me != caller && begun.with([&](auto& all) { return all.count(me) == 0; })) ++unknown;
      });
      CHECK(unknown == 0);
      CHECK(ended.with([](auto& all) { return all.empty(); }));
    }
    CHECK(ended.with([](auto& all) { return all.size(); }) == 3);
  };
  try_one([&] { return ThreadCrew(4, {.at_begin = at_begin, .at_end = at_end}); });
  try_one([&] { return TaskCrew(4, {.at_begin = at_begin, .at_end = at_end}); });
  // A crew of one has no threads of its own.
  numbers = 0;
  ThreadCrew alone(1, {.at_begin = at_begin});
  CHECK(numbers == 0);
  const auto throws = [](int worker) {
    if (worker == 2) throw std::runtime_error("not registered");
  };
  CHECK_THROWS_WITH(ThreadCrew(4, {.at_begin = throws}), "not registered");
  CHECK_THROWS_WITH(TaskCrew(4, {.at_begin = throws}), "not registered");
  CHECK_THROWS_AS(ProcessCrew(2, {.at_begin = throws}), Error);
}
