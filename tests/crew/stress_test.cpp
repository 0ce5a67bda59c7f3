// Every crew against its sequential answer, under stress.
#include "support/stress.hpp"

#include <doctest/doctest.h>

#include <atomic>
#include <chrono>
#include <mutex>
#include <random>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/internal/tasks/deque.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_graph.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using test::operations;
using test::seed;
using test::Stress;

namespace {

long leaves(TaskCrew& crew, int depth) {
  if (depth <= 0) return 1;
  auto [a, b] = crew.both([&] { return leaves(crew, depth - 1); }, [&] { return leaves(crew, depth - 1 - depth % 2); });
  return a + b;
}
long leaves_in_order(int depth) {
  return depth <= 0 ? 1 : leaves_in_order(depth - 1) + leaves_in_order(depth - 1 - depth % 2);
}

}  // namespace

TEST_CASE("stress: every task of a deque is taken exactly once, by its owner or a thief") {
  Stress stress;
  CAPTURE(seed());
  struct Counted : internal::Task {
    Counted() : Task(nullptr) {}
    std::atomic<int> taken{0};
  };
  std::vector<Counted> tasks(operations);
  internal::Deque deque(4);
  std::atomic<bool> over{false};
  std::atomic<std::size_t> stolen{0};
  std::vector<std::thread> thieves;
  for (int t = 0; t < 3; ++t) {
    thieves.emplace_back([&] {
      while (!over) {
        if (internal::Task* task = deque.steal().task) {
          ++static_cast<Counted*>(task)->taken;
          ++stolen;
        } else {
          std::this_thread::yield();
        }
      }
    });
  }
  std::size_t pushed = 0;
  const auto pop = [&] {
    bool exposed = false;
    internal::Task* task = deque.pop(exposed);
    if (task != nullptr) ++static_cast<Counted*>(task)->taken;
    return task != nullptr;
  };
  while (pushed < operations) {
    for (std::uint64_t k = stress.random() % 12; k > 0 && pushed < operations; --k)
      stress.random() % 3 == 0 ? deque.push_public(&tasks[pushed++], nullptr) : deque.push(&tasks[pushed++], nullptr);
    for (std::uint64_t k = stress.random() % 12; k > 0; --k) pop();
  }
  while (pop()) {
  }
  over = true;
  for (std::thread& thief : thieves) thief.join();
  std::size_t wrong = 0;
  for (const Counted& task : tasks) wrong += task.taken == 1 ? 0 : 1;
  CHECK(wrong == 0);
  CHECK(stolen > 0);
}

TEST_CASE("stress: recursion and loops of both crews") {
  Stress stress;
  CAPTURE(seed());
  std::size_t done = 0;
  while (done < operations) {
    TaskCrew tasks(stress.workers());
    ThreadCrew threads(stress.workers());
    for (int again = 0; again < 5; ++again) {
      const int depth = 8 + static_cast<int>(stress.random() % 7);
      const long expected = leaves_in_order(depth);
      REQUIRE(leaves(tasks, depth) == expected);
      const std::size_t n = stress.random() % 5000;
      const std::size_t step = 1 + stress.random() % 40;
      std::atomic<std::uint64_t> sum{0};
      tasks.each(n, Grain{step}, [&](std::size_t i) { sum += i; });
      threads.each(n, Split::chunks(step), [&](std::size_t i) { sum += i; });
      threads.each(n, Split::tapering(step), [&](std::size_t i) { sum += i; });
      REQUIRE(sum == 3 * (n * (n - 1) / 2));
      done += static_cast<std::size_t>(expected) + 3 * n;
    }
  }
}

TEST_CASE("stress: groups whose children run children, throw, and are begun from outside") {
  Stress stress;
  CAPTURE(seed());
  std::size_t done = 0;
  while (done < operations) {
    TaskCrew crew(stress.workers());
    TaskGroup group(crew);
    std::atomic<std::size_t> ran{0};
    const std::size_t n = 2000 + stress.random() % 20'000;
    const std::size_t throwing = stress.random() % n;
    const auto child = [&](std::size_t i) {
      ++ran;
      if (i == throwing) throw std::runtime_error("planted");
      if (i % 8 == 0) group.begin([&] { ++ran; });
    };
    for (std::size_t i = 0; i < n / 2; ++i) group.begin([&, i] { child(i); });
    crew.each(1, [&](std::size_t) {
      for (std::size_t i = n / 2; i < n; ++i) group.begin([&, i] { child(i); });
    });
    CHECK_THROWS_AS(group.wait(), std::runtime_error);
    CHECK(group.errors().size() == 1);
    const std::size_t grandchildren = (n + 7) / 8 - (throwing % 8 == 0 ? 1 : 0);
    REQUIRE(ran == n + grandchildren);
    done += ran;
  }
}

TEST_CASE("stress: in a random graph every step runs once a run, after all that it depends on") {
  Stress stress;
  CAPTURE(seed());
  std::size_t done = 0;
  while (done < operations) {
    TaskCrew crew(stress.workers());
    TaskGraph graph;
    const std::size_t n = 50 + stress.random() % 500;
    std::vector<std::atomic<int>> run_of(n);
    std::vector<std::vector<std::size_t>> needs(n);
    std::vector<TaskGraph::Step<internal::Nothing>> steps;
    std::atomic<int> run{0};
    std::atomic<int> wrong{0};
    for (std::size_t i = 0; i < n; ++i) {
      for (std::uint64_t k = stress.random() % 4; i > 0 && k > 0; --k) needs[i].push_back(stress.random() % i);
      steps.push_back(graph.step(std::to_string(i), [&, i] {
        for (const std::size_t needed : needs[i]) wrong += run_of[needed] == run ? 0 : 1;
        wrong += run_of[i].exchange(run) == run - 1 ? 0 : 1;
      }));
      for (const std::size_t needed : needs[i]) graph.order(steps[needed], steps[i]);
    }
    for (int again = 0; again < 40; ++again) {
      ++run;
      graph.run(crew);
      for (const auto& last : run_of) wrong += last == run ? 0 : 1;
      done += n;
    }
    REQUIRE(wrong == 0);
  }
}

TEST_CASE("stress: exceptions from any place leave crews whole, and crews are destroyed with work open") {
  Stress stress;
  CAPTURE(seed());
  std::atomic<std::size_t> begun{0};
  std::atomic<std::size_t> ended{0};
  for (int round = 0; round < 150; ++round) {
    TaskCrew tasks(stress.workers());
    ThreadCrew threads(stress.workers());
    const std::size_t n = 1 + stress.random() % 300;
    const std::size_t at = stress.random() % n;
    const auto body = [&](std::size_t i) {
      if (i == at) throw std::out_of_range(std::to_string(i));
    };
    CHECK_THROWS_WITH_AS(tasks.each(n, Grain{1}, body), std::to_string(at).c_str(), std::out_of_range);
    CHECK_THROWS_WITH_AS(threads.each(n, Split::chunks(1), body), std::to_string(at).c_str(), std::out_of_range);
    CHECK_THROWS_AS(tasks.both([&] { tasks.each(n, Grain{1}, body); }, [&] { threads.each(n, body); }),
                    std::out_of_range);
    for (std::size_t k = 0; k < 20; ++k) {
      ++begun;
      static_cast<void>(tasks.begin([&] {
        internal::at_border();
        ++ended;
      }));
    }
  }
  CHECK(begun == ended);
}

namespace {

// Work that waits inside work, at random: forks, loops, groups, graphs and handles, some under a lock of their own
// level.
class Waiting {
 public:
  Waiting(TaskCrew& crew, std::uint64_t first) : crew_(crew), locks_(8), random_(first) {}

  // Adds 1 to `done` for each leaf; returns how many leaves there were to be.
  std::size_t go(int depth, std::atomic<std::size_t>& done) {
    if (depth == 0) {
      ++done;
      return 1;
    }
    const std::uint64_t drawn = draw();
    // A body below never takes the lock of a level above.
    std::unique_lock<std::mutex> held(locks_[static_cast<std::size_t>(depth)], std::defer_lock);
    if (drawn % 3 == 0) held.lock();
    const auto below = [&] { return go(depth - 1, done); };
    switch (drawn / 3 % 5) {
      case 0: {
        auto [a, b] = crew_.both(below, below);
        return a + b;
      }
      case 1:
        return crew_.begin(below).get();
      case 2: {
        std::atomic<std::size_t> all{0};
        crew_.each(1 + drawn / 16 % 5, Grain{1}, [&](std::size_t) { all += below(); });
        return all;
      }
      case 3: {
        std::atomic<std::size_t> all{0};
        TaskGroup group(crew_);
        for (std::uint64_t k = 1 + drawn / 16 % 4; k > 0; --k) group.begin([&] { all += below(); });
        Later<std::size_t> beside = crew_.begin([&] {
          ++done;
          return std::size_t{1};
        });
        group.wait();
        return all + beside.get();
      }
      default: {
        std::atomic<std::size_t> all{0};
        TaskGraph graph;
        auto first = graph.step("first", [&] { all += below(); });
        graph.step("left", [&] { all += below(); }, {first});
        graph.step("right", [&] { all += below(); }, {first});
        graph.run(crew_);
        return all;
      }
    }
  }

 private:
  std::uint64_t draw() {
    const std::lock_guard<std::mutex> held(mutex_);
    return random_() >> 5;
  }
  TaskCrew& crew_;
  std::vector<std::mutex> locks_;
  std::mutex mutex_;
  std::mt19937_64 random_;
};

}  // namespace

TEST_CASE("stress: work that waits inside work, under locks") {
  Stress stress;
  CAPTURE(seed());
  const test::Deadline deadline("stress: work that waits inside work", std::chrono::seconds(300));
  std::size_t all = 0;
  while (all < operations / 20) {
    TaskCrew crew(stress.workers());
    for (int again = 0; again < 20; ++again) {
      Waiting waiting(crew, stress.random());
      std::atomic<std::size_t> done{0};
      const std::size_t expected = waiting.go(6, done);
      REQUIRE(done == expected);
      all += expected;
    }
  }
}

TEST_CASE("stress: crews shared by threads") {
  Stress stress;
  CAPTURE(seed());
  const test::Deadline deadline("stress: crews shared by threads", std::chrono::seconds(300));
  std::atomic<std::size_t> all{0};
  while (all < operations / 4) {
    TaskCrew tasks(stress.workers());
    ThreadCrew threads(stress.workers());
    std::atomic<int> wrong{0};
    std::atomic<int> ran{0};
    TaskGroup group(tasks);
    std::vector<std::thread> callers;
    for (int t = 0; t < 5; ++t) {
      callers.emplace_back([&, first = stress.random()] {
        std::mt19937_64 random(first);
        for (int again = 0; again < 50; ++again) {
          const std::size_t n = random() % 400;
          std::atomic<std::size_t> sum{0};
          tasks.each(n, Grain{1 + random() % 5}, [&](std::size_t i) {
            sum += i;
            if (i % 64 == 0) group.begin([&] { ++ran; });
          });
          wrong += sum == n * (n - 1) / 2 || n == 0 ? 0 : 1;
          const int depth = static_cast<int>(random() % 6);
          wrong += leaves(tasks, depth) == leaves_in_order(depth) ? 0 : 1;
          wrong += tasks.begin([n] { return n; }).get() == n ? 0 : 1;
          try {
            std::atomic<std::size_t> of_threads{0};
            threads.each(n, Split::chunks(3), [&](std::size_t i) { of_threads += i; });
            wrong += of_threads == sum ? 0 : 1;
          } catch (const Error& error) {
            wrong += error.id() == "crew.busy" ? 0 : 1;
          }
          all += n + 20;
        }
      });
    }
    for (std::thread& caller : callers) caller.join();
    group.wait();
    REQUIRE(wrong == 0);
  }
}
