// Every building block against its sequential answer, with random worker counts and bursts of random delays at the
// borders of pieces. The seed is printed when a check fails; ANTCREW_STRESS_SEED repeats it.
#include <doctest/doctest.h>

#include <atomic>
#include <cstdlib>
#include <memory>
#include <mutex>
#include <numeric>
#include <random>
#include <set>
#include <stdexcept>
#include <string>
#include <thread>
#include <unordered_set>
#include <vector>

#include "antcrew/crew/internal/deque.hpp"
#include "antcrew/crew/internal/jostle.hpp"
#include "antcrew/crew/key_map.hpp"
#include "antcrew/crew/key_set.hpp"
#include "antcrew/crew/pipeline.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_graph.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/thread_crew.hpp"

using namespace antcrew;

namespace {

#if defined(__SANITIZE_THREAD__)
constexpr std::size_t operations = 100'000;
#elif defined(__SANITIZE_ADDRESS__)
constexpr std::size_t operations = 300'000;
#else
constexpr std::size_t operations = 1'000'000;
#endif

std::uint64_t seed() {
  static const std::uint64_t chosen = [] {
    const char* asked = std::getenv("ANTCREW_STRESS_SEED");
    return asked != nullptr ? std::strtoull(asked, nullptr, 10) : std::random_device()() | 1u;
  }();
  return chosen;
}

// Delays that are on for a moment now and then: always on, a million operations would take minutes.
class Bursts {
 public:
  Bursts()
      : thread_([this] {
          std::mt19937_64 random(seed());
          while (!over_) {
            std::this_thread::sleep_for(std::chrono::microseconds(random() % 4000));
            internal::jostle_seed.store(random() | 1);
            std::this_thread::sleep_for(std::chrono::microseconds(random() % 300));
            internal::jostle_seed.store(0);
          }
        }) {}
  ~Bursts() {
    over_ = true;
    thread_.join();
  }

 private:
  std::atomic<bool> over_{false};
  std::thread thread_;
};

struct Stress {
  std::mt19937_64 random{seed()};
  Bursts bursts;
  int workers() { return 1 + static_cast<int>(random() % 16); }
};

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
        if (internal::Task* task = deque.steal()) {
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
    for (std::uint64_t k = stress.random() % 12; k > 0 && pushed < operations; --k) deque.push(&tasks[pushed++]);
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
      if (i % 8 == 0) group.run([&] { ++ran; });
    };
    for (std::size_t i = 0; i < n / 2; ++i) group.run([&, i] { child(i); });
    crew.each(1, [&](std::size_t) {
      for (std::size_t i = n / 2; i < n; ++i) group.run([&, i] { child(i); });
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

TEST_CASE("stress: sets and maps filled and asked by all workers") {
  Stress stress;
  CAPTURE(seed());
  std::size_t done = 0;
  while (done < operations) {
    ThreadCrew crew(stress.workers());
    const std::uint64_t distinct = 1 + stress.random() % 30'000;
    std::vector<std::uint64_t> keys(50'000);
    for (std::uint64_t& key : keys) key = stress.random() % distinct;
    const std::set<std::uint64_t> expected(keys.begin(), keys.end());
    KeySet<std::uint64_t> numbers;
    KeySet<std::string> words;
    KeyMap<std::uint64_t, std::uint64_t> counts;
    KeyMap<std::uint64_t, std::vector<std::size_t>> places;
    std::atomic<std::size_t> added{0};
    std::atomic<int> missing{0};
    crew.each(keys.size(), Split::chunks(32), [&](std::size_t i) {
      if (numbers.insert(keys[i])) ++added;
      if (!numbers.contains(keys[i])) ++missing;
      counts.add(keys[i], i);
      if (i % 16 == 0) {
        words.insert(std::to_string(keys[i]));
        places.update(keys[i], [&](std::vector<std::size_t>& p) { p.push_back(i); });
        if (!words.contains(std::to_string(keys[i])) || !counts.find(keys[i])) ++missing;
      }
    });
    CHECK(missing == 0);
    CHECK(added == expected.size());
    CHECK(numbers.take_sorted() == std::vector<std::uint64_t>(expected.begin(), expected.end()));
    std::uint64_t sum = 0;
    for (const auto& [key, count] : counts.take_sorted(crew)) sum += count;
    CHECK(sum == keys.size() * (keys.size() - 1) / 2);
    std::size_t noted = 0;
    places.walk([&](std::uint64_t, const std::vector<std::size_t>& p) { noted += p.size(); });
    CHECK(noted == keys.size() / 16);
    done += 3 * keys.size();
  }
}

TEST_CASE("stress: pipelines keep their order and lose nothing; some throw") {
  Stress stress;
  CAPTURE(seed());
  std::size_t done = 0;
  while (done < operations) {
    ThreadCrew threads(stress.workers());
    TaskCrew tasks(stress.workers());
    const std::uint64_t n = 1000 + stress.random() % 20'000;
    const std::uint64_t throwing = stress.random() % (2 * n);  // every other one does not
    const std::size_t items = 1 + stress.random() % 40;
    std::uint64_t next = 0;
    std::vector<std::uint64_t> out;
    auto line =
        pipeline([&]() -> std::optional<std::uint64_t> { return next < n ? std::optional(next++) : std::nullopt; })
            .many("drop", [](std::uint64_t i) { return i % 7 == 0 ? std::nullopt : std::optional(i); })
            .many("throw",
                  [&](std::uint64_t i) {
                    if (i == throwing) throw std::runtime_error("planted");
                    return std::make_unique<std::uint64_t>(i);
                  })
            .in_order("pack", [&](std::unique_ptr<std::uint64_t> i) { out.push_back(*i); });
    const auto run = [&] {
      stress.random() % 2 == 0 ? line.run(threads, {.items = items}) : line.run(tasks, {.items = items});
    };
    if (throwing < n && throwing % 7 != 0) {
      CHECK_THROWS_WITH_AS(run(), "planted", std::runtime_error);
    } else {
      run();
      CHECK(out.size() == n - (n + 6) / 7);
    }
    CHECK(std::is_sorted(out.begin(), out.end()));
    done += 4 * n;
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
