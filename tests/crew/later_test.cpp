// Continuations: what goes on from begun work, from all of several, from the first; without handles.
#include <doctest/doctest.h>

#include <atomic>
#include <chrono>
#include <memory>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/when.hpp"
#include "process_facts.hpp"
#include "support/at_once.hpp"

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
