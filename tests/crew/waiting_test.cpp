// Work that waits, inside work that waits; work of very unequal length; and how many ran at once.
#include <doctest/doctest.h>

#include <atomic>
#include <chrono>
#include <functional>
#include <mutex>
#include <thread>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_graph.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using namespace std::chrono_literals;
using test::AtOnce;
using test::Deadline;
using test::meet;
using test::seconds_of;

TEST_CASE("work begun from outside runs on all idle workers at once") {
  const Deadline deadline("work begun from outside");
  TaskCrew crew(9);
  std::this_thread::sleep_for(20ms);  // all asleep
  std::atomic<int> here{0};
  std::vector<Later<bool>> begun;
  for (int k = 0; k < 8; ++k) begun.push_back(crew.begin([&] { return meet(here, 8); }));
  while (here < 8) std::this_thread::sleep_for(1ms);
  for (Later<bool>& one : begun) CHECK(one.get());
}

TEST_CASE("as many items as workers, in a fold, take the time of one") {
  const Deadline deadline("fold of as many items as workers");
  const auto fold_on = [](auto&& crew) {
    std::atomic<int> here{0};
    const auto one = [&](Range range) {
      int met = 0;
      for (std::size_t i = range.first; i < range.last; ++i) met += meet(here, 8) ? 1 : 0;
      return met;
    };
    CHECK(crew.fold(8, 0, one, std::plus<>()) == 8);
  };
  fold_on(ThreadCrew(8));
  fold_on(TaskCrew(8));
  ProcessCrew processes(8);
  CommonCounter here;
  const auto meet_there = [&](Range range) {
    here.add(1);
    for (int look = 0; here.get() < 8 && look < 5000; ++look) std::this_thread::sleep_for(1ms);
    return here.get() >= 8 ? static_cast<int>(range.size()) : 0;
  };
  CHECK(processes.fold(8, 0, meet_there, std::plus<>()) == 8);
}

TEST_CASE("neighbours that take a thousand times as long as the rest are shared out") {
  const Deadline deadline("slow neighbours");
  TaskCrew crew(8);
  AtOnce slow;
  // 64 slow ones among 20,000: far fewer than the cheap ones that a worker does between two looks.
  const double took_s = seconds_of([&] {
    crew.each(20'000, Grain{1}, [&](std::size_t i) {
      if (i >= 7'000 && i < 7'064) slow.stay(10ms);
    });
  });
  CHECK(slow.most() == 8);
  INFO("took ", took_s, " s; alone 0.64 s, shared out 0.08 s");
  CHECK(took_s < 0.4);
}

TEST_CASE("all children of a group can be taken, while one of them takes long") {
  const Deadline deadline("children under a long one");
  TaskCrew crew(2);
  TaskGroup group(crew);
  std::atomic<int> short_ones{0};
  bool all_ran_meanwhile = false;
  crew.each(1, [&](std::size_t) {
    for (int k = 0; k < 100; ++k) group.begin([&] { ++short_ones; });
    group.begin([&] {
      for (int look = 0; short_ones < 100 && look < 5000; ++look) std::this_thread::sleep_for(1ms);
      all_ran_meanwhile = short_ones == 100;
    });
    group.wait();
  });
  CHECK(all_ran_meanwhile);
  // Begun from outside: who waits takes the last one, the other worker the first.
  short_ones = 0;
  std::atomic<bool> long_began{false};
  for (int k = 0; k < 100; ++k) {
    group.begin([&] {
      std::this_thread::sleep_for(1ms);
      ++short_ones;
    });
  }
  int ran_before = 100;
  group.begin([&] {
    ran_before = short_ones;
    long_began = true;
  });
  group.wait();
  CHECK(long_began);
  CHECK(ran_before < 60);
}

TEST_CASE("a lock held around an inner loop, a fork, a group or a graph of the same crew") {
  for (const int workers : {1, 2, 3, 8}) {
    CAPTURE(workers);
    const Deadline deadline("a lock around inner work");
    TaskCrew crew(workers);
    std::mutex lock;
    std::atomic<int> done{0};
    for (int again = 0; again < 20; ++again) {
      crew.each(24, Grain{1}, [&](std::size_t i) {
        const std::lock_guard<std::mutex> held(lock);
        switch (i % 4) {
          case 0:
            crew.each(16, Grain{1}, [&](std::size_t) { ++done; });
            break;
          case 1:
            for (int k = 0; k < 8; ++k) crew.both([&] { ++done; }, [&] { ++done; });
            break;
          case 2: {
            TaskGroup group(crew);
            for (int k = 0; k < 16; ++k) group.begin([&] { ++done; });
            group.wait();
            break;
          }
          default: {
            TaskGraph graph;
            for (int k = 0; k < 16; ++k) graph.step(std::to_string(k), [&] { ++done; });
            graph.run(crew);
          }
        }
      });
    }
    CHECK(done == 20 * 24 * 16);
  }
}

TEST_CASE("a worker that waits inside a body is in no other body of the same loop meanwhile") {
  for (const int workers : {2, 5}) {
    const Deadline deadline("bodies inside bodies");
    TaskCrew crew(workers);
    std::atomic<int> nested{0};
    crew.each(200, Grain{1}, [&](std::size_t) {
      thread_local int depth = 0;
      if (depth++ > 0) ++nested;
      crew.each(8, Grain{1}, [&](std::size_t) { std::this_thread::sleep_for(20us); });
      --depth;
    });
    CHECK(nested == 0);
  }
}

TEST_CASE("begun work is waited for where it lies: under other work, begun by others, deep in the queue") {
  for (const int workers : {1, 2, 4}) {
    CAPTURE(workers);
    const Deadline deadline("begun work under other work");
    TaskCrew crew(workers);
    std::mutex lock;
    crew.each(30, Grain{1}, [&](std::size_t i) {
      Later<std::size_t> wanted = crew.begin([i] { return i; });
      std::vector<Later<void>> others;
      // Each of these would wait for the lock that is held below.
      for (int k = 0; k < 5; ++k) {
        others.push_back(crew.begin([&] { const std::lock_guard<std::mutex> held(lock); }));
      }
      {
        const std::lock_guard<std::mutex> held(lock);
        CHECK(wanted.get() == i);
      }
      for (Later<void>& other : others) other.get();
    });
  }
}

TEST_CASE("a group's children that lie under other work are found by who waits for them") {
  for (const int workers : {1, 2, 3}) {
    CAPTURE(workers);
    const Deadline deadline("children under other work");
    TaskCrew crew(workers);
    std::mutex lock;
    crew.each(20, Grain{1}, [&](std::size_t) {
      std::atomic<int> ran{0};
      TaskGroup group(crew);
      for (int k = 0; k < 5; ++k) group.begin([&] { ++ran; });
      std::vector<Later<void>> others;
      for (int k = 0; k < 5; ++k) {
        others.push_back(crew.begin([&] { const std::lock_guard<std::mutex> held(lock); }));
      }
      {
        const std::lock_guard<std::mutex> held(lock);
        group.wait();
      }
      CHECK(ran == 5);
      for (Later<void>& other : others) other.get();
    });
  }
}

TEST_CASE("all workers wait for what lies in each other's queues") {
  const Deadline deadline("all wait");
  TaskCrew crew(2);
  for (int again = 0; again < 200; ++again) {
    TaskGroup group(crew);
    std::atomic<int> ran{0};
    Later<void> waits = crew.begin([&] { group.wait(); });
    crew.each(2, Grain{1}, [&](std::size_t) {
      static_cast<void>(crew.begin([&] { ++ran; }));
      group.begin([&] { ++ran; });
      static_cast<void>(crew.begin([&] { ++ran; }));
      waits.ready();
    });
    waits.get();
    group.wait();
    crew.settle();
    CHECK(ran == 6);
  }
}

TEST_CASE("a handle becomes ready by asking, also with one worker, and asking does nothing else") {
  for (const int workers : {1, 2}) {
    const Deadline deadline("ready by asking");
    TaskCrew crew(workers);
    std::atomic<int> other{0};
    crew.each(1, [&](std::size_t) {
      Later<int> wanted = crew.begin([] { return 3; });
      Later<void> unwanted = crew.begin([&] { ++other; });
      while (!wanted.ready()) std::this_thread::yield();
      if (workers == 1) CHECK(other == 0);
      CHECK(wanted.get() == 3);
      unwanted.get();
    });
    CHECK(other == 1);
    Later<int> outside = crew.begin([] { return 4; });
    while (!outside.ready()) std::this_thread::yield();
    CHECK(outside.get() == 4);
  }
}

TEST_CASE("waiting with a time limit takes up no work, and ends in time") {
  const Deadline deadline("waiting with a limit");
  TaskCrew crew(2);
  std::atomic<bool> go{false};
  const auto until_go = [&] {
    while (!go) std::this_thread::sleep_for(100us);
  };
  Later<void> later = crew.begin(until_go);
  TaskGroup group(crew);
  group.begin(until_go);
  TaskGraph graph;
  graph.step("waits", until_go);
  graph.begin(crew);
  CHECK_FALSE(later.wait_for(0.01));
  CHECK_FALSE(group.wait_for(0.01));
  CHECK_FALSE(graph.wait_for(0.01));
  go = true;
  CHECK(later.wait_for(10));
  CHECK(group.wait_for(10));
  CHECK(graph.wait_for(10));
  later.get();
  group.wait();
  graph.wait();
  TaskCrew one(1);
  Later<void> never = one.begin([] {});
  CHECK_FALSE(never.wait_for(0.005));
  never.get();
}

TEST_CASE("two threads share a task crew: each gets help from its workers") {
  const Deadline deadline("a shared task crew");
  TaskCrew crew(6);
  std::atomic<int> here{0};
  std::atomic<int> met{0};
  std::vector<std::thread> callers;
  // Two loops of three items that all have to run at once.
  for (int k = 0; k < 2; ++k) {
    callers.emplace_back([&] { crew.each(3, Grain{1}, [&](std::size_t) { met += meet(here, 6) ? 1 : 0; }); });
  }
  for (std::thread& caller : callers) caller.join();
  CHECK(met == 6);
}

TEST_CASE("twenty threads call one task crew") {
  const Deadline deadline("twenty callers");
  TaskCrew crew(3);
  std::atomic<long> sum{0};
  std::vector<std::thread> callers;
  for (int k = 0; k < 20; ++k) {
    callers.emplace_back([&] {
      for (int again = 0; again < 30; ++again) {
        crew.each(50, Grain{1}, [&](std::size_t i) { sum += static_cast<long>(i); });
        sum += crew.begin([] { return 1L; }).get();
        TaskGroup group(crew);
        group.begin([&] { ++sum; });
        group.wait();
        auto [a, b] = crew.both([] { return 1L; }, [] { return 1L; });
        sum += a + b;
      }
    });
  }
  for (std::thread& caller : callers) caller.join();
  CHECK(sum == 20 * 30 * (1225 + 4));
}

// The thread sanitizer keeps much of its own in a thread's stack, and follows 65,536 calls inside each other, no more.
#if defined(__SANITIZE_THREAD__)
static constexpr std::size_t small_stack = 3u << 19;
#else
static constexpr std::size_t small_stack = 1u << 20;
#endif

TEST_CASE("recursion through loops is refused before the stack ends") {
  const auto recursing = [](auto& crew, const auto& how) {
    std::function<void()> deeper = [&] { crew.each(2, how, [&](std::size_t) { deeper(); }); };
    try {
      deeper();
    } catch (const Error& error) {
      return error.id();
    }
    return std::string();
  };
  for (const int workers : {1, 2, 3}) {
    const Deadline deadline("recursion through loops");
    TaskCrew tasks(workers, {.stack_bytes = small_stack});
    ThreadCrew threads(workers, {.stack_bytes = small_stack});
    std::string tasks_said;
    std::string threads_said;
    // From a thread of the crew's size: a sanitizer cannot follow a stack of 8 MiB to its end.
    TaskCrew two(2, {.stack_bytes = small_stack});
    TaskCrew& in = workers > 1 ? tasks : two;  // one worker alone would be this thread
    Later<void> in_crew = in.begin([&] {
      tasks_said = recursing(tasks, Grain{1});
      threads_said = recursing(threads, Split::chunks(1)) + recursing(threads, Split::even());
    });
    while (!in_crew.wait_for(1)) {
    }
    in_crew.get();
    CHECK(tasks_said == "crew.stack");
    CHECK(threads_said == "crew.stackcrew.stack");
    std::atomic<int> total{0};
    tasks.each(100, Grain{1}, [&](std::size_t) { ++total; });
    CHECK(total == 100);
  }
}

// Helping each other down, workers that wait for what was refused would go on for minutes.
TEST_CASE("recursion that was refused in one place does not go on in others") {
  for (const int workers : {2, 3, 8}) {
    const Deadline deadline("recursion that was refused");
    TaskCrew crew(workers, {.stack_bytes = small_stack});
    std::atomic<long> bodies{0};
    std::function<void()> deeper = [&] {
      ++bodies;
      crew.each(2, Grain{1}, [&](std::size_t) { deeper(); });
    };
    std::string said;
    Later<void> in_crew = crew.begin([&] {
      try {
        deeper();
      } catch (const Error& error) {
        said = error.id();
      }
    });
    while (!in_crew.wait_for(1)) {
    }
    in_crew.get();
    CHECK(said == "crew.stack");
    CHECK(bodies < 300'000);
  }
}

TEST_CASE("64 workers, three workers, one: nested loops that wait give the right answer") {
  for (const int workers : {1, 3, 64}) {
    const Deadline deadline("nested loops that wait");
    TaskCrew crew(workers);
    std::atomic<int> total{0};
    crew.each(8, Grain{1}, [&](std::size_t) {
      crew.each(8, Grain{1}, [&](std::size_t) {
        auto later = crew.begin([] {
          std::this_thread::sleep_for(200us);
          return 1;
        });
        total += later.get();
      });
    });
    CHECK(total == 64);
  }
}
