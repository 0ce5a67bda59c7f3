// Several threads at one crew, crews inside crews, and the numbers of workers.
#include <doctest/doctest.h>

#include <atomic>
#include <chrono>
#include <mutex>
#include <new>
#include <random>
#include <set>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/crew/worker.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using namespace std::chrono_literals;
using test::Deadline;
using test::meet;

namespace {

// What a call of another thread comes to.
std::string said_elsewhere(ThreadCrew& crew) {
  std::string said;
  std::thread([&] {
    try {
      crew.each(3, [](std::size_t) {});
    } catch (const Error& error) {
      said = error.id();
    }
  }).join();
  return said;
}

// Whether all workers of a call of the crew are at it at once, each under a number of its own below workers().
template <class Crew, class How>
bool numbers_are_unique(Crew& crew, How how) {
  const auto workers = static_cast<std::size_t>(crew.workers());
  std::atomic<int> here{0};
  std::mutex mutex;
  std::set<int> numbers;
  bool in_range = true;
  crew.each(workers, how, [&](std::size_t) {
    meet(here, crew.workers());
    const std::lock_guard<std::mutex> held(mutex);
    numbers.insert(this_worker());
    in_range = in_range && this_worker() >= 0 && this_worker() < crew.workers();
  });
  return in_range && numbers.size() == workers;
}

}  // namespace

TEST_CASE("a held crew refuses other threads between the holder's calls, and is free afterwards") {
  for (const int workers : {1, 2, 3}) {
    CAPTURE(workers);
    ThreadCrew crew(workers);
    std::atomic<int> done{0};
    {
      const auto held = crew.hold();
      crew.each(10, [&](std::size_t) { ++done; });
      CHECK(said_elsewhere(crew) == "crew.busy");
      {
        const auto again = crew.hold();
        crew.each(10, [&](std::size_t) { const auto inside = crew.hold(); });
      }
      CHECK(said_elsewhere(crew) == "crew.busy");
      crew.each(10, [&](std::size_t) { ++done; });
    }
    CHECK(done == 20);
    CHECK(said_elsewhere(crew) == "");
  }
}

TEST_CASE("a crew of one refuses a second thread as a crew of two does") {
  for (const int workers : {1, 2}) {
    ThreadCrew crew(workers);
    std::string said;
    crew.ranges(1, [&](Range) { said = said_elsewhere(crew); });
    CHECK(said == "crew.busy");
    CHECK(said_elsewhere(crew) == "");
    CHECK_THROWS_AS(crew.each(1, [](std::size_t) { throw 1; }), int);
    CHECK(said_elsewhere(crew) == "");
  }
}

TEST_CASE("numbers of workers are unique and below workers(), in crews of any size and inside each other") {
  const Deadline deadline("numbers of workers");
  for (const int workers : {1, 3, 9, 20}) {
    CAPTURE(workers);
    ThreadCrew threads(workers);
    TaskCrew tasks(workers);
    CHECK(numbers_are_unique(threads, Split::even()));
    CHECK(numbers_are_unique(threads, Split::chunks(1)));
    CHECK(numbers_are_unique(tasks, Grain{1}));
  }
  ThreadCrew outer(4);
  std::atomic<int> right{0};
  outer.each(4, Split::chunks(1), [&](std::size_t) {
    const int mine = this_worker();
    ThreadCrew one(1);
    TaskCrew one_task(1);
    TaskCrew two(2);
    ThreadCrew pair(2);
    if (numbers_are_unique(one, Split::even()) && numbers_are_unique(one_task, Grain{1}) &&
        numbers_are_unique(two, Grain{1}) && numbers_are_unique(pair, Split::even()) && this_worker() == mine)
      ++right;
    // The outer crew's own loop in here runs as the worker that this is.
    outer.each(3, [&](std::size_t) { right += this_worker() == mine ? 1 : 0; });
    pair.ranges(1, [&](Range) { outer.each(1, [&](std::size_t) { right += this_worker() == mine ? 1 : 0; }); });
  });
  CHECK(right == 4 * 5);
}

TEST_CASE("a task crew's loop inside another crew's body runs under the numbers of the task crew") {
  const Deadline deadline("numbers inside other crews");
  TaskCrew tasks(3);
  ThreadCrew inner(2);
  std::atomic<int> wrong{0};
  tasks.each(6, Grain{1}, [&](std::size_t) {
    const int mine = this_worker();
    ThreadCrew own(2);
    own.ranges(1, [&](Range) {
      std::vector<std::atomic<int>> used(3);
      tasks.each(30, Grain{1}, [&](std::size_t) {
        const int number = this_worker();
        if (number < 0 || number >= 3 || used[static_cast<std::size_t>(number)].fetch_add(1) != 0) ++wrong;
        std::this_thread::sleep_for(50us);
        --used[static_cast<std::size_t>(number)];
      });
    });
    wrong += this_worker() == mine ? 0 : 1;
  });
  CHECK(wrong == 0);
}

TEST_CASE("children may be added by some threads while another one waits") {
  const Deadline deadline("adding while waiting");
  TaskCrew crew(2);
  TaskGroup group(crew);
  std::atomic<int> ran{0};
  std::atomic<bool> over{false};
  std::vector<std::thread> adding;
  for (int t = 0; t < 3; ++t) {
    adding.emplace_back([&] {
      for (int k = 0; k < 500; ++k) {
        group.begin([&, k] {
          ++ran;
          if (k % 100 == 0) throw 1;
        });
      }
    });
  }
  std::size_t thrown = 0;
  std::thread waiting([&] {
    while (!over) {
      try {
        group.wait();
      } catch (int) {
        thrown += group.errors().size();
      }
    }
  });
  for (std::thread& thread : adding) thread.join();
  over = true;
  waiting.join();
  try {
    group.wait();
  } catch (int) {
    thrown += group.errors().size();
  }
  CHECK(ran == 1500);
  CHECK(thrown == 15);
}

TEST_CASE("a child that cannot be copied for want of memory leaves a group that can be waited for") {
  const Deadline deadline("bad_alloc while handing over");
  struct Dear {
    Dear() = default;
    Dear(Dear&&) { throw std::bad_alloc(); }
    void operator()() const {}
  };
  for (const int workers : {1, 2}) {
    TaskCrew crew(workers);
    TaskGroup group(crew);
    std::atomic<int> ran{0};
    group.begin([&] { ++ran; });
    CHECK_THROWS_AS(group.begin(Dear()), std::bad_alloc);
    CHECK_THROWS_AS(static_cast<void>(crew.begin(Dear())), std::bad_alloc);
    group.begin([&] { ++ran; });
    group.wait();
    CHECK(ran == 2);
    CHECK(crew.settle() == 0);
  }
}

TEST_CASE("a handle may outlive its crew") {
  std::optional<Later<int>> kept;
  std::optional<Later<int>> dropped;
  {
    TaskCrew crew(2);
    kept = crew.begin([] { return 5; });
    dropped = crew.begin([] { return 6; });
  }
  CHECK(kept->ready());
  CHECK(kept->get() == 5);
  dropped.reset();
}

// All are asleep before each loop, and all who take part meet in it.
TEST_CASE("a loop wakes no more workers than it has pieces for, and none twice") {
  const Deadline deadline("waking a few");
  for (const int workers : {2, 3, 4, 8, 9, 17, 64}) {
    ThreadCrew crew(workers);
    const auto wakes_at_most = [&](int pieces, Split split, std::size_t n) {
      CAPTURE(workers);
      CAPTURE(pieces);
      std::this_thread::sleep_for(3ms);
      const std::uint64_t before = crew.wake_ups();
      std::atomic<int> here{0};
      std::atomic<int> met{0};
      std::atomic<std::size_t> done{0};
      crew.ranges(n, split, [&](Range range) {
        done += range.size();
        met += meet(here, pieces) ? 1 : 0;
      });
      CHECK(done == n);
      CHECK(met == pieces);
      CHECK(crew.wake_ups() - before <= static_cast<std::uint64_t>(pieces - 1));
    };
    for (int again = 0; again < 3; ++again) {
      for (const int pieces : {1, 2, 3, 5, workers - 1, workers}) {
        if (pieces < 1 || pieces > workers) continue;
        const auto n = static_cast<std::size_t>(pieces);
        wakes_at_most(pieces, Split::even(), n);
        wakes_at_most(pieces, Split::chunks(1), n);
        wakes_at_most(pieces, Split::chunks(10), 10 * n - 3);
      }
    }
  }
}

// Loops for some workers and for all follow each other, at once or after a while, and end early now and then.
TEST_CASE("loops for some workers among loops for all: every piece once, exceptions and stops as ever") {
  const Deadline deadline("loops for some among loops for all");
  std::mt19937 random(7);
  for (const int workers : {3, 8, 9, 20}) {
    CAPTURE(workers);
    ThreadCrew crew(workers);
    std::size_t wrong = 0;
    const auto end = std::chrono::steady_clock::now() + 10s;  // where regions take milliseconds
    for (int round = 0; round < 4000 && std::chrono::steady_clock::now() < end; ++round) {
      const std::size_t n = random() % (static_cast<unsigned>(workers) + 3);
      const bool throws = round % 97 == 0 && n > 0;
      if (round % 50 == 0) std::this_thread::sleep_for(std::chrono::microseconds(random() % 200));
      std::vector<std::atomic<int>> seen(n);
      const auto body = [&](std::size_t i) {
        ++seen[i];
        if (throws && i == n - 1) throw round;
      };
      try {
        round % 3 == 0   ? crew.each(n, body)
        : round % 3 == 1 ? crew.each(n, Split::chunks(1), body)
                         : crew.each(n, Split::tapering(1), body);
        if (throws) ++wrong;
        for (const std::atomic<int>& times : seen) wrong += times != 1;
      } catch (int thrown) {
        if (!throws || thrown != round) ++wrong;
      }
    }
    CHECK(wrong == 0);
  }
}

// Counted at the caller: the rest are woken by those that it woke.
TEST_CASE("with many workers the caller wakes two of them at the most, and all take part") {
  const Deadline deadline("waking in squads");
  for (const int workers : {9, 16, 17, 64}) {
    CAPTURE(workers);
    ThreadCrew crew(workers);
    for (int again = 0; again < 5; ++again) {
      std::this_thread::sleep_for(3ms);
      const std::uint64_t before = crew.wake_ups_by_caller();
      std::atomic<int> here{0};
      std::atomic<int> met{0};
      crew.each(static_cast<std::size_t>(workers), [&](std::size_t) { met += meet(here, workers) ? 1 : 0; });
      CHECK(met == workers);
      CHECK(crew.wake_ups_by_caller() - before <= 2);
    }
    std::atomic<int> done{0};
    for (int again = 0; again < 300; ++again) {
      crew.each(static_cast<std::size_t>(workers), [&](std::size_t) { ++done; });
    }
    CHECK(done == 300 * workers);
    CHECK_THROWS_AS(crew.each(static_cast<std::size_t>(workers),
                              [](std::size_t i) {
                                if (i == 8) throw 8;
                              }),
                    int);
  }
}
