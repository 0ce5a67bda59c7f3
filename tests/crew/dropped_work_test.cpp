// Begun work whose handle is dropped: who waits for it, who gets what it throws, and who may help.
#include <doctest/doctest.h>

#include <array>
#include <atomic>
#include <chrono>
#include <functional>
#include <stdexcept>
#include <thread>
#include <vector>

#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_graph.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/share/locked.hpp"
#include "process_facts.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using namespace std::chrono_literals;
using test::Deadline;

TEST_CASE("all who are inside one loop have numbers of their own, whoever helps with dropped work") {
  const Deadline deadline("numbers");
  TaskCrew crew(3);
  std::atomic<int> twice{0};
  std::atomic<bool> over{false};
  std::vector<std::thread> others;
  for (int k = 0; k < 3; ++k) {
    others.emplace_back([&] {
      while (!over) {
        crew.each(4, Grain{1}, [](std::size_t) {});
        crew.begin([] { return 1; }).get();
      }
    });
  }
  for (int round = 0; round < 30; ++round) {
    crew.begin([&] {
      std::array<std::atomic<bool>, 3> inside{};
      crew.each(30, Grain{1}, [&](std::size_t) {
        auto& mine = inside[static_cast<std::size_t>(this_worker())];
        if (mine.exchange(true)) ++twice;
        std::this_thread::sleep_for(300us);
        mine = false;
      });
    });
    static_cast<void>(crew.settle());
  }
  over = true;
  for (std::thread& other : others) other.join();
  static_cast<void>(crew.settle());
  CHECK(twice == 0);
}

TEST_CASE("handles dropped at the moment their work ends, by several threads, beside settle() and the crew's end") {
  const Deadline deadline("dropped while it ends", 120s);
  const int rounds = exact_memory ? 300 : 40;
  for (int round = 0; round < rounds; ++round) {
    std::atomic<int> ran{0};
    std::vector<std::thread> others;
    std::vector<Later<void>> kept;
    {
      TaskCrew crew(3);
      for (int k = 0; k < 3; ++k) {
        others.emplace_back([&] {
          for (int i = 0; i < 40; ++i) {
            Later<void> later = crew.begin([&] { ++ran; });
            if (i % 3 == 0) std::this_thread::yield();
          }
        });
      }
      for (int i = 0; i < 20; ++i) static_cast<void>(crew.settle());
      for (std::thread& other : others) other.join();
      for (int k = 0; k < 8; ++k) kept.push_back(crew.begin([&] { ++ran; }));
      others.clear();
      // Dropped while the crew ends.
      others.emplace_back([&] { kept.clear(); });
    }
    others.front().join();
    CHECK(ran == 128);
  }
}

TEST_CASE("in a crew of one, what other threads drop while one settles is done") {
  const Deadline deadline("settling alone", 120s);
  for (int round = 0; round < (exact_memory ? 200 : 30); ++round) {
    TaskCrew crew(1);
    std::atomic<int> ran{0};
    std::atomic<bool> over{false};
    std::thread settling([&] {
      while (!over) static_cast<void>(crew.settle());
    });
    std::vector<std::thread> others;
    for (int k = 0; k < 2; ++k) {
      others.emplace_back([&] {
        for (int i = 0; i < 50; ++i) crew.begin([&] { ++ran; });
      });
    }
    for (std::thread& other : others) other.join();
    while (ran < 100) std::this_thread::yield();  // nobody else does it
    over = true;
    settling.join();
  }
}

TEST_CASE("another thread's calls know nothing of work that was dropped, neither its length nor what it throws") {
  const Deadline deadline("dropped elsewhere");
  for (const int workers : {2, 4}) {
    TaskCrew crew(workers);
    std::atomic<bool> released{false}, begun{false}, ended{false};
    crew.begin([&] {
      begun = true;
      const auto give_up = std::chrono::steady_clock::now() + 20s;
      while (!released && std::chrono::steady_clock::now() < give_up) std::this_thread::sleep_for(1ms);
      ended = true;
      throw std::runtime_error("dropped");
    });
    while (!begun) std::this_thread::yield();
    std::thread([&] {
      std::atomic<int> done{0};
      CHECK_NOTHROW(crew.each(9, [&](std::size_t) { ++done; }));
      CHECK(done == 9);
      CHECK(crew.begin([] { return 7; }).get() == 7);
      TaskGroup group(crew);
      group.begin([&] { ++done; });
      CHECK_NOTHROW(group.wait());
      CHECK_NOTHROW(crew.both([&] { ++done; }, [&] { ++done; }));
      TaskGraph graph;
      graph.step("one", [&] { ++done; });
      CHECK_NOTHROW(graph.run(crew));
      CHECK(done == 13);
      CHECK_FALSE(ended);
    }).join();
    released = true;
    CHECK_THROWS_WITH_AS(static_cast<void>(crew.settle()), "dropped", std::runtime_error);
    CHECK(ended);
    CHECK(crew.settle() == 1);
    CHECK(crew.settle() == 0);
  }
}

TEST_CASE("what a body drops its call waits for, and throws; what begun work drops only settle() does") {
  const Deadline deadline("dropped inside");
  for (const int workers : {1, 2, 5}) {
    CAPTURE(workers);
    TaskCrew crew(workers);
    std::atomic<int> ended{0};
    const auto slow = [&] {
      std::this_thread::sleep_for(20ms);
      ++ended;
    };
    crew.each(4, Grain{1}, [&](std::size_t) { crew.begin(slow); });
    CHECK(ended == 4);
    CHECK_THROWS_WITH(crew.each(2, Grain{1},
                                [&](std::size_t i) {
                                  if (i == 1) crew.begin([] { throw std::runtime_error("of this call"); });
                                }),
                      "of this call");
    CHECK_NOTHROW(crew.each(2, [](std::size_t) {}));
    crew.both([&] { crew.begin(slow); }, [&] { crew.each(3, Grain{1}, [&](std::size_t) { crew.begin(slow); }); });
    CHECK(ended == 8);
    // In a group that is waited for inside the call, too.
    crew.each(1, [&](std::size_t) {
      TaskGroup group(crew);
      group.begin([&] { crew.begin(slow); });
      group.wait();
    });
    CHECK(ended == 9);
    std::atomic<bool> released{false};
    crew.each(1, [&](std::size_t) {
      crew.begin([&] {
        crew.begin([&] {
          while (!released) std::this_thread::sleep_for(1ms);
          ++ended;
        });
      });
    });
    CHECK(ended == 9);
    released = true;
    static_cast<void>(crew.settle());
    CHECK(ended == 10);
    // The destructor waits, and does not throw.
    crew.begin([&] {
      slow();
      throw 5;
    });
    { const TaskCrew gone(std::move(crew)); }
    CHECK(ended == 11);
  }
}

TEST_CASE(
    "dropped work that wants a lock which the caller holds, and a tick that begins its successor, hold up no call") {
  const Deadline deadline("ticks");
  TaskCrew crew(2);
  Locked<int> sum(0);
  for (int round = 0; round < 200; ++round) {
    sum.with([&](int& value) {
      crew.begin([&] { sum.with([](int& its) { ++its; }); });
      crew.each(8, Grain{1}, [](std::size_t) {});
      ++value;
    });
  }
  static_cast<void>(crew.settle());
  CHECK(sum.with([](int& value) { return value; }) == 400);
  std::atomic<bool> over{false};
  std::atomic<int> ticks{0};
  std::function<void()> tick = [&] {
    ++ticks;
    std::this_thread::sleep_for(1ms);
    if (!over) crew.begin(tick);
  };
  crew.begin(tick);
  for (int round = 0; round < 100; ++round) crew.each(4, Grain{1}, [](std::size_t) {});
  const int before = ticks;
  while (ticks < before + 5) std::this_thread::sleep_for(1ms);
  over = true;
  static_cast<void>(crew.settle());
}
