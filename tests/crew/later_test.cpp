// Continuations: what goes on from begun work, from all of several, from the first; without handles, without memory.
#include <doctest/doctest.h>

#include <atomic>
#include <chrono>
#include <memory>
#include <mutex>
#include <new>
#include <optional>
#include <random>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/when.hpp"
#include "process_facts.hpp"
#include "support/allocations.hpp"
#include "support/at_once.hpp"
#include "support/stress.hpp"

using namespace antcrew;
using namespace std::chrono_literals;
using test::Deadline;

namespace {

template <class Fn>
std::string error_id(Fn&& fn) {
  try {
    fn();
  } catch (const Error& error) {
    return error.id();
  }
  return "nothing";
}

// Held back until it is opened, for 20 s at most.
class Gate {
 public:
  void open() { open_ = true; }
  void pass() const {
    for (int look = 0; look < 20'000 && !open_; ++look) std::this_thread::sleep_for(1ms);
  }

 private:
  std::atomic<bool> open_{false};
};

}  // namespace

TEST_CASE("then: values, nothing, what only moves, and what is thrown go along, with any number of workers") {
  const Deadline deadline("then");
  for (const int workers : {1, 2, 3, 64}) {
    CAPTURE(workers);
    TaskCrew crew(workers);
    CHECK(crew.begin([] { return 20; }).then([](int a) { return a + 1; }).then([](long b) { return 2 * b; }).get() ==
          42);
    int seen = 0;
    crew.begin([&] { seen = 1; }).then([&] { seen += 1; }).then([&] { seen *= 5; }).get();
    CHECK(seen == 10);
    auto own = crew.begin([] { return std::make_unique<int>(7); }).then([](std::unique_ptr<int> p) {
      *p += 1;
      return p;
    });
    CHECK(*own.get() == 8);
    // A reference to what went before is allowed, too.
    CHECK(crew.begin([] { return std::string("ebb"); }).then([](const std::string& s) { return s.size(); }).get() == 3);
    bool called = false;
    auto broken = crew.begin([]() -> int { throw std::runtime_error("no chart"); }).then([&](int) { called = true; });
    CHECK_THROWS_WITH_AS(broken.get(), "no chart", std::runtime_error);
    CHECK_FALSE(called);
    CHECK_THROWS_WITH(crew.begin([] {}).then([] { throw std::runtime_error("dry"); }).then([] {}).get(), "dry");
    // After its work has long ended, and from inside a body.
    auto done = crew.begin([] { return 1; });
    while (!done.ready()) std::this_thread::yield();
    crew.each(1, [&](std::size_t) { CHECK(done.then([](int a) { return a + 1; }).get() == 2); });
    CHECK(crew.settle() == 0);
  }
}

TEST_CASE("a handle without work says so, and can be given some") {
  TaskCrew crew(2);
  std::vector<Later<int>> all(3);
  CHECK_FALSE(all[1].valid());
  CHECK(error_id([&] { all[1].get(); }) == "crew.no_work");
  CHECK(error_id([&] { static_cast<void>(all[1].ready()); }) == "crew.no_work");
  CHECK(error_id([&] { static_cast<void>(all[1].wait_for(0)); }) == "crew.no_work");
  CHECK(error_id([&] { static_cast<void>(all[1].then([](int) {})); }) == "crew.no_work");
  all[1] = crew.begin([] { return 4; });
  CHECK(all[1].valid());
  Later<int> moved = std::move(all[1]);
  CHECK_FALSE(all[1].valid());
  CHECK(moved.get() == 4);
  CHECK(error_id([&] { moved.get(); }) == "crew.no_work");
  Later<int> first = crew.begin([] { return 1; });
  Later<int> second = first.then([](int a) { return a + 1; });
  CHECK_FALSE(first.valid());
  CHECK(second.get() == 2);
  // One of several has none: the others are as they were.
  all[0] = crew.begin([] { return 5; });
  CHECK(error_id([&] { static_cast<void>(when_all(std::move(all))); }) == "crew.no_work");
  CHECK(error_id([&] { static_cast<void>(when_any(std::move(all))); }) == "crew.no_work");
  CHECK(error_id([&] { static_cast<void>(when_all(std::move(all[0]), std::move(all[1]))); }) == "crew.no_work");
  CHECK(all[0].get() == 5);
  CHECK(error_id([&] { static_cast<void>(when_all(std::vector<Later<int>>())); }) == "crew.no_work");
  CHECK(when_all(crew, std::vector<Later<int>>()).then([](std::vector<int> none) { return none.size(); }).get() == 0);
  // The crew is gone.
  Later<int> kept;
  {
    TaskCrew gone(2);
    kept = gone.begin([] { return 9; });
  }
  CHECK(error_id([&] { static_cast<void>(kept.then([](int) {})); }) == "crew.gone");
  CHECK(kept.get() == 9);
}

TEST_CASE("a long chain takes no stack, whether it is made before it begins or while it runs") {
  const Deadline deadline("chain", 120s);
  const int steps = exact_memory ? 200'000 : 20'000;
  for (const int workers : {1, 3}) {
    CAPTURE(workers);
    TaskCrew crew(workers);
    for (const bool held_back : {true, false}) {
      Gate gate;
      auto last = crew.begin([&] {
        if (held_back) gate.pass();
        return 0;
      });
      for (int k = 0; k < steps; ++k) last = last.then([](int a) { return a + 1; });
      gate.open();
      CHECK(last.get() == steps);
      // Dropped instead.
      std::atomic<int> ran{0};
      Later<void> dropped = crew.begin([&] { ++ran; });
      for (int k = 0; k < steps; ++k) dropped = dropped.then([&] { ++ran; });
      dropped = Later<void>();
      static_cast<void>(crew.settle());
      CHECK(ran == steps + 1);
    }
  }
}

TEST_CASE("when_all: in order, waits for all also where some throw, and all of it runs at once") {
  const Deadline deadline("when_all");
  for (const int workers : {1, 2, 4, 64}) {
    CAPTURE(workers);
    TaskCrew crew(workers);
    test::AtOnce at_once;
    std::vector<Later<int>> laters;
    for (int k = 0; k < 12; ++k) {
      laters.push_back(crew.begin([&, k] {
                             at_once.stay(5ms);
                             return k;
                           })
                           .then([&](int a) {
                             at_once.stay(5ms);
                             return 10 * a;
                           }));
    }
    const std::vector<int> answers = when_all(std::move(laters)).get();
    REQUIRE(answers.size() == 12);
    for (std::size_t k = 0; k < 12; ++k) CHECK(answers[k] == 10 * static_cast<int>(k));
    CHECK(at_once.most() >= std::min(workers, 12));
    auto [depth, nothing, name] = when_all(crew.begin([] { return 2.5; }), crew.begin([] {}), crew.begin([] {
                                    return std::string("spit");
                                  })).get();
    CHECK(depth == 2.5);
    CHECK(name == "spit");
    static_cast<void>(nothing);
    std::atomic<int> ended{0};
    std::vector<Later<void>> some;
    for (int k = 0; k < 6; ++k) {
      some.push_back(crew.begin([&, k] {
        std::this_thread::sleep_for(std::chrono::milliseconds(k == 2 ? 10 : 1));
        ++ended;
        if (k == 2 || k == 4) throw std::runtime_error("part " + std::to_string(k));
      }));
    }
    CHECK_THROWS_WITH_AS(when_all(std::move(some)).get(), "part 2", std::runtime_error);
    CHECK(ended == 6);
    // Of several of several, with something after each.
    auto tree = [&](int base) {
      std::vector<Later<int>> leaves;
      for (int k = 0; k < 5; ++k) leaves.push_back(crew.begin([base, k] { return base + k; }));
      return when_all(std::move(leaves)).then([](std::vector<int> all) {
        int sum = 0;
        for (const int each : all) sum += each;
        return sum;
      });
    };
    auto sums = when_all(tree(0), tree(100), tree(200)).then([](auto all) {
      return std::get<0>(all) + std::get<1>(all) + std::get<2>(all);
    });
    CHECK(sums.get() == 1530);
    CHECK(crew.settle() == 0);
  }
}

TEST_CASE("when_any: the first one, the others go on, and what is thrown is the handle's") {
  const Deadline deadline("when_any");
  for (const int workers : {1, 2, 4}) {
    CAPTURE(workers);
    TaskCrew crew(workers);
    Gate gate;
    std::vector<Later<int>> laters;
    std::atomic<int> held{0};
    // With one worker, who waits does the work itself: nothing is held back there.
    laters.push_back(crew.begin([&] {
      ++held;
      if (workers > 2) gate.pass();
      return 0;
    }));
    laters.push_back(crew.begin([]() -> int { throw std::runtime_error("first"); }));
    if (workers > 2) {
      while (held == 0) std::this_thread::yield();
    }
    auto [index, all] = when_any(std::move(laters)).get();
    REQUIRE(all.size() == 2);
    CHECK(all[index].ready());
    if (workers > 2) CHECK(index == 1);
    gate.open();
    CHECK(all[0].get() == 0);
    CHECK_THROWS_WITH(all[1].get(), "first");
    // Handles of the others go on, and can be waited for together again.
    std::vector<Later<int>> more;
    for (int k = 0; k < 9; ++k) more.push_back(crew.begin([k] { return k; }).then([](int a) { return a; }));
    std::vector<bool> seen(9);
    while (!more.empty()) {
      auto [which, rest] = when_any(std::move(more)).get();
      seen[static_cast<std::size_t>(rest[which].get())] = true;
      rest.erase(rest.begin() + static_cast<std::ptrdiff_t>(which));
      more = std::move(rest);
    }
    CHECK(seen == std::vector<bool>(9, true));
    CHECK(when_any([&] {
            std::vector<Later<int>> one;
            one.push_back(crew.begin([] { return 3; }));
            return one;
          }())
              .then([](FirstReady<int> ready) { return ready.laters[ready.index].get(); })
              .get() == 3);
  }
}

TEST_CASE("what a body drops with all that it comes after, its call waits for, and throws; outside settle() does") {
  const Deadline deadline("dropped");
  for (const int workers : {1, 2, 5}) {
    CAPTURE(workers);
    TaskCrew crew(workers);
    std::atomic<int> ended{0};
    const auto slow = [&] {
      std::this_thread::sleep_for(10ms);
      ++ended;
    };
    const auto several = [&] {
      std::vector<Later<void>> all;
      for (int k = 0; k < 4; ++k) all.push_back(crew.begin(slow).then(slow));
      return all;
    };
    crew.each(1, [&](std::size_t) { crew.begin(slow).then(slow).then(slow); });
    CHECK(ended.exchange(0) == 3);
    crew.each(1, [&](std::size_t) { when_all(several()).then(slow); });
    CHECK(ended.exchange(0) == 9);
    // All of them, though one is enough for the answer.
    crew.each(1, [&](std::size_t) { when_any(several()); });
    CHECK(ended.exchange(0) == 8);
    const auto fails = [&] {
      std::this_thread::sleep_for(5ms);
      throw std::runtime_error("late");
    };
    CHECK_THROWS_WITH(crew.each(1, [&](std::size_t) { crew.begin(slow).then(fails).then(slow); }), "late");
    CHECK_THROWS_WITH(crew.each(1,
                                [&](std::size_t) {
                                  std::vector<Later<void>> all = several();
                                  all.push_back(crew.begin(slow).then(fails));
                                  when_any(std::move(all));
                                }),
                      "late");
    CHECK(ended.exchange(0) == 10);
    when_all(several());
    when_any(several());
    crew.begin(slow).then(fails);
    CHECK_THROWS_WITH(static_cast<void>(crew.settle()), "late");
    // The others of a when_any() that was dropped outside may be dropped only now.
    static_cast<void>(crew.settle());
    CHECK(ended.exchange(0) == 17);
    // The destructor waits for all of it, whether the handle is kept or not.
    Later<void> kept = when_all(several()).then(slow);
    when_any(several()).then([&](FirstReady<void>) { ++ended; });
    { const TaskCrew gone(std::move(crew)); }
    CHECK(ended == 18);
    kept.get();
  }
}

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
