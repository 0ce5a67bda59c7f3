// A bounded queue and a growing vector that all workers fill.
#include <doctest/doctest.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <functional>
#include <memory>
#include <numeric>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/share/bounded_queue.hpp"
#include "antcrew/share/growing_vector.hpp"
#include "support/at_once.hpp"
#include "support/stress.hpp"

using namespace antcrew;
using namespace std::chrono_literals;
using test::Deadline;

TEST_CASE("a bounded queue: full and empty are told, order is kept, closing ends it") {
  BoundedQueue<std::unique_ptr<int>> queue(2);
  CHECK_FALSE(queue.try_pop());
  CHECK(queue.push(std::make_unique<int>(1)));
  CHECK(queue.try_push(std::make_unique<int>(2)));
  auto third = std::make_unique<int>(3);
  CHECK_FALSE(queue.try_push(third));
  CHECK(*third == 3);  // still the caller's
  CHECK(queue.size() == 2);
  CHECK(**queue.pop() == 1);
  CHECK(queue.try_push(third));
  queue.close();
  CHECK_FALSE(queue.push(std::make_unique<int>(4)));
  CHECK(**queue.pop() == 2);
  CHECK(**queue.pop() == 3);
  CHECK_FALSE(queue.pop());
  BoundedQueue<int> one(0);
  for (int lap = 0; lap < 1000; ++lap) {
    CHECK(one.push(lap));
    CHECK(*one.pop() == lap);
  }
  // What is left in it goes with it.
  auto counted = std::make_shared<int>(1);
  {
    BoundedQueue<std::shared_ptr<int>> left(8);
    for (int k = 0; k < 5; ++k) left.push(counted);
    CHECK(counted.use_count() == 6);
  }
  CHECK(counted.use_count() == 1);
}

TEST_CASE("a bounded queue with many who fill and empty it: each item once, never more than it holds") {
  const Deadline deadline("queue", 240s);
  test::Stress stress;
  INFO("ANTCREW_STRESS_SEED=" << test::seed());
  for (const std::size_t room : {std::size_t{1}, std::size_t{3}, std::size_t{64}}) {
    for (int round = 0; round < 6; ++round) {
      BoundedQueue<std::size_t> queue(room);
      const int writers = 1 + static_cast<int>(stress.random() % 4);
      const int readers = 1 + static_cast<int>(stress.random() % 4);
      const std::size_t each = test::operations / 200 / static_cast<std::size_t>(writers);
      std::atomic<std::size_t> sum{0}, taken{0}, out_of_order{0};
      std::atomic<int> writing{writers};
      ThreadCrew crew(writers + readers);
      crew.on_each([&](int worker, Barrier&) {
        if (worker < writers) {
          const std::size_t first = static_cast<std::size_t>(worker) * each;
          for (std::size_t k = 0; k < each; ++k) CHECK(queue.push(first + k));
          if (--writing == 0) queue.close();
          return;
        }
        std::vector<std::size_t> last(static_cast<std::size_t>(writers));
        while (const std::optional<std::size_t> item = queue.pop()) {
          std::size_t& before = last[*item / each];
          if (before > *item) ++out_of_order;  // of one writer, seen by one reader
          before = *item;
          sum += *item;
          ++taken;
          if (queue.size() > room) ++out_of_order;
        }
      });
      const std::size_t all = each * static_cast<std::size_t>(writers);
      CHECK(taken == all);
      CHECK(sum == all * (all - 1) / 2);
      CHECK(out_of_order == 0);
    }
  }
}

TEST_CASE("closing wakes all who wait, on either side") {
  const Deadline deadline("closing");
  for (int round = 0; round < 20; ++round) {
    BoundedQueue<int> empty(4), full(1);
    CHECK(full.push(0));
    std::atomic<int> ended{0};
    std::vector<std::thread> threads;
    for (int t = 0; t < 3; ++t) {
      threads.emplace_back([&] {
        if (!empty.pop()) ++ended;
      });
      threads.emplace_back([&] {
        if (!full.push(1)) ++ended;
      });
    }
    std::this_thread::sleep_for(std::chrono::microseconds(100 * (round % 5)));
    empty.close();
    full.close();
    for (std::thread& thread : threads) thread.join();
    CHECK(ended == 6);
  }
}

TEST_CASE("a growing vector: every element once, none of them moves, with any number of workers") {
  const Deadline deadline("vector");
  for (const int workers : {1, 2, 3, 64}) {
    CAPTURE(workers);
    ThreadCrew crew(workers);
    GrowingVector<std::string> names;
    const std::size_t n = test::operations / 50;
    std::atomic<int> moved{0};
    crew.each(n,
              [&](std::size_t i) {
                std::string& mine = names.push_back(std::to_string(i));
                if (mine != std::to_string(i)) ++moved;
                if (i % 3 == 0) names.emplace_back(std::size_t{3}, 'x');
              },
              {.split = Split::chunks(8)});
    CHECK(moved == 0);
    CHECK(names.size() == n + (n + 2) / 3);
    std::vector<int> seen(n);
    std::size_t others = 0;
    for (const std::string& name : names) name == "xxx" ? void(++others) : void(++seen[std::stoul(name)]);
    CHECK(others == (n + 2) / 3);
    CHECK(std::all_of(seen.begin(), seen.end(), [](int count) { return count == 1; }));
    std::sort(names.begin(), names.end());
    CHECK(std::is_sorted(names.begin(), names.end()));
    const std::string* first = &names[0];
    for (int k = 0; k < 5000; ++k) names.push_back("later");
    CHECK(&names[0] == first);
  }
  struct Fragile {
    explicit Fragile(bool fails) {
      if (fails) throw std::runtime_error("broken");
    }
  };
  GrowingVector<Fragile> few;
  few.emplace_back(false);
  CHECK_THROWS(few.emplace_back(true));
  CHECK(few.size() == 1);
}

TEST_CASE("a group of limited items: no more wait to be begun, from outside and from its own children") {
  const Deadline deadline("limited group");
  for (const int workers : {1, 2, 4}) {
    CAPTURE(workers);
    TaskCrew crew(workers);
    std::atomic<int> alive{0}, most{0}, ran{0};
    struct Held {
      Held(std::atomic<int>& its_alive, std::atomic<int>& its_most) : alive(&its_alive) {
        const int now = ++*alive;
        int seen = its_most;
        while (now > seen && !its_most.compare_exchange_weak(seen, now)) {
        }
      }
      ~Held() { --*alive; }
      std::atomic<int>* alive;
    };
    test::AtOnce at_once;
    {
      TaskGroup group(crew, {.items = 8});
      for (int k = 0; k < 400; ++k) {
        group.begin([held = std::make_shared<Held>(alive, most), &ran, &at_once] {
          at_once.stay(300us);
          ++ran;
        });
      }
      group.wait();
    }
    CHECK(ran == 400);
    CHECK(alive == 0);
    CHECK(most <= 8 + workers + 1);
    CHECK(at_once.most() == workers);
    // Children that begin more: all of them wait for room at once, and go on.
    ran = 0;
    TaskGroup tree(crew, {.items = 3});
    std::function<void(int)> grow = [&](int depth) {
      ++ran;
      for (int k = 0; k < 3 && depth < 6; ++k) tree.begin([&, depth] { grow(depth + 1); });
    };
    tree.begin([&] { grow(0); });
    tree.wait();
    CHECK(ran == 1093);
    // Two threads at once.
    ran = 0;
    TaskGroup both(crew, {.items = 2});
    std::thread other([&] {
      for (int k = 0; k < 300; ++k) both.begin([&] { ++ran; });
    });
    for (int k = 0; k < 300; ++k) both.begin([&] { ++ran; });
    other.join();
    both.wait();
    CHECK(ran == 600);
  }
}
