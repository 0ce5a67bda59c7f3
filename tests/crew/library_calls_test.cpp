// Calls of the C library that are counted while somebody asks: memory, threads, locks.
#include "antcrew/log/library_calls.hpp"

#include <doctest/doctest.h>

#include <atomic>
#include <condition_variable>
#include <cstdlib>
#include <limits>
#include <mutex>
#include <shared_mutex>
#include <stdexcept>
#include <thread>
#include <vector>

#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/log/lane_book.hpp"
#include "antcrew/log/lane_sums.hpp"
#include "antcrew/machine/call_slots.hpp"

using namespace antcrew;
using namespace antcrew::internal;

namespace {

// Any thread.
void allocate_often(int times) {
  for (int k = 0; k < times; ++k) {
    void* volatile kept = std::malloc(48);
    std::free(kept);
  }
}

template <class Body>
LibraryCounts counted(const CountedCalls& counting, Body body) {
  const LibraryCounts before = counting.so_far();
  body();
  return counting.so_far() - before;
}

// The log of a call with so many lanes.
template <class Call>
LaneLog logged(int lanes, Call call) {
  LaneBook* book = LaneBook::create(lanes);
  book->open();
  call();
  book->close();
  LaneLog log = book->log();
  LaneBook::destroy(book);
  return log;
}

const LaneLock* lock_named(const LaneLog& log, const char* name) {
  for (const LaneLock& lock : log.locks) {
    if (lock.name != nullptr && std::string(lock.name) == name) return &lock;
  }
  return nullptr;
}

void nap_ms(int ms) {
  std::this_thread::sleep_for(std::chrono::milliseconds(ms));
}

}  // namespace

TEST_CASE("allocations are counted one by one, of all threads, and only while somebody counts") {
  const CountedCalls counting;
  if (!counting.sees_memory()) return;  // a program whose own allocator is in it, such as a sanitizer's
  allocate_often(100);                  // by which this thread is known
  const LibraryCounts alone = counted(counting, [] { allocate_often(10'000); });
  CHECK(alone.allocations == 10'000);
  CHECK(alone.allocated_bytes == 48 * 10'000);
  CHECK(alone.allocating_s > 0);
  CHECK(alone.threads == 0);

  const LibraryCounts together = counted(counting, [] {
    std::vector<std::thread> threads;
    for (int k = 0; k < 8; ++k) threads.emplace_back([] { allocate_often(10'000); });
    for (std::thread& thread : threads) thread.join();
  });
  CHECK(together.allocations >= 80'000);
  CHECK(together.allocations < 80'200);  // a thread's own state
  CHECK(together.threads == 8);
}

TEST_CASE("what is asked in vain is passed on as it is") {
  const CountedCalls counting;
  if (!counting.sees_memory()) return;
  volatile std::size_t most = std::numeric_limits<std::size_t>::max() / 4;
  void* none = nullptr;
  const LibraryCounts in_vain = counted(counting, [&] { none = std::malloc(most); });
  CHECK(none == nullptr);
  CHECK(in_vain.allocations == 0);
  CHECK(in_vain.allocated_bytes == 0);
  none = std::realloc(nullptr, 16);  // and the program goes on
  CHECK(none != nullptr);
  std::free(none);
  CHECK_THROWS(none = ::operator new(most));
}

TEST_CASE("slots are as they were once nobody counts any more") {
  LibraryCounts during;
  LibraryCounts after;
  {
    const CountedCalls counting;
    during = counted(counting, [] { allocate_often(100); });
  }
  allocate_often(1000);  // by nobody counted
  {
    const CountedCalls counting;
    after = counted(counting, [] {});
    CHECK(after.allocations < 10);
    if (counting.sees_memory()) CHECK(during.allocations >= 100);
  }
}

TEST_CASE("threads that come and go by the ten thousand are counted, and leave nothing behind") {
  const CountedCalls counting;
  if (!counting.sees_locks()) return;
  const LibraryCounts seen = counted(counting, [] {
    for (int k = 0; k < 10'000; ++k) std::thread([] {}).join();
  });
  CHECK(seen.threads == 10'000);
  CHECK(seen.beginning_s > 0);
  const LibraryCounts still = counted(counting, [] { std::thread([] { allocate_often(10); }).join(); });
  if (counting.sees_memory()) CHECK(still.allocations >= 10);
}

TEST_CASE("a body that waits for a mutex is at a lock in its lane, under the place of who waits") {
  const CountedCalls counting;
  if (!counting.sees_locks()) return;
  ThreadCrew crew(4);
  std::mutex lock;
  const LaneLog log = logged(4, [&] {
    crew.each(4, Split::chunks(1), [&](std::size_t) {
      const std::lock_guard<std::mutex> held(lock);
      nap_ms(20);
    });
  });
  const LaneLock* seen = lock_named(log, "mutex");
  REQUIRE(seen != nullptr);
  CHECK(seen->waits >= 1);
  CHECK(!seen->callers.empty());
  const LaneSums sums = sums_of(log);
  // Each nap keeps those waiting that come after: 20 + 40 + 60 ms.
  CHECK(sums.parts_s[LaneState::lock] >= 0.05);
  REQUIRE(sums.locks.size() == 1);
  CHECK(sums.locks.front().wait_s >= 0.05);
}

TEST_CASE("a mutex that nobody else has is counted and makes no wait; recursive ones go on") {
  const CountedCalls counting;
  std::recursive_mutex lock;
  const LibraryCounts seen = counted(counting, [&] {
    for (int k = 0; k < 1000; ++k) {
      const std::lock_guard<std::recursive_mutex> outer(lock);
      const std::lock_guard<std::recursive_mutex> inner(lock);
    }
  });
  CHECK(seen.waits == 0);
  CHECK((seen.locks == 2000 || seen.locks == 0));  // 0 where the program has the function itself
}

TEST_CASE("where only threads are counted locks are left alone; where waits are, a free lock is not counted") {
  const auto seen_with = [](CountedCalls::What what) {
    const CountedCalls counting(what);
    return counted(counting, [&] {
      std::mutex lock;
      std::unique_lock<std::mutex> held(lock);
      std::jthread other([&] { const std::lock_guard<std::mutex> waits(lock); });
      nap_ms(20);
      held.unlock();
    });
  };
  const LibraryCounts left_alone = seen_with(CountedCalls::What::no_locks);
  CHECK((left_alone.threads == 1 || !CountedCalls().sees_locks()));
  CHECK(left_alone.waits == 0);
  CHECK(left_alone.locks == 0);
  const LibraryCounts rare = seen_with(CountedCalls::What::rare);
  CHECK((rare.waits == 1 || !CountedCalls().sees_locks()));
  CHECK(rare.locks == 0);
}

TEST_CASE("waits for a condition, a shared mutex and an atomic are seen in bodies") {
  const CountedCalls counting;
  if (!counting.sees_locks()) return;
  ThreadCrew crew(2);
  // Again where a worker came so late that nobody had to wait.
  const auto seen = [](const char* name, auto call) {
    for (int go = 0; go < 10; ++go) {
      if (lock_named(logged(2, call), name) != nullptr) return true;
    }
    return false;
  };
  std::mutex lock;
  std::condition_variable changed;
  bool ready = false;
  CHECK(seen("condition variable", [&] {
    ready = false;
    crew.each(2, Split::chunks(1), [&](std::size_t i) {
      if (i == 0) {
        std::unique_lock<std::mutex> held(lock);
        changed.wait(held, [&] { return ready; });
      } else {
        nap_ms(20);
        const std::lock_guard<std::mutex> held(lock);
        ready = true;
        changed.notify_all();
      }
    });
  }));

  std::shared_mutex shared;
  CHECK(seen("shared mutex", [&] {
    crew.each(2, Split::chunks(1), [&](std::size_t) {
      const std::unique_lock<std::shared_mutex> held(shared);
      nap_ms(20);
    });
  }));

  std::atomic<int> word{0};
  CHECK(seen("atomic", [&] {
    word = 0;
    crew.each(2, Split::chunks(1), [&](std::size_t i) {
      if (i == 0) {
        word.wait(0);
      } else {
        nap_ms(20);
        word = 1;
        word.notify_all();
      }
    });
  }));
}

TEST_CASE("threads in no lane add their waits up in the open book") {
  const CountedCalls counting;
  if (!counting.sees_locks()) return;
  std::mutex lock;
  const LaneLog log = logged(1, [&] {
    std::vector<std::jthread> threads;
    for (int k = 0; k < 3; ++k) {
      threads.emplace_back([&] {
        const std::lock_guard<std::mutex> held(lock);
        nap_ms(20);
      });
    }
  });
  const LaneLock* seen = lock_named(log, "mutex");
  REQUIRE(seen != nullptr);
  CHECK(seen->waits <= 2);  // fewer where one came late
  CHECK(seen->waits >= 1);
  CHECK(seen->waited_ns > 1'000'000);
}

TEST_CASE("a crew's own waits stay what they are") {
  const CountedCalls counting;
  TaskCrew crew(2);
  const LaneLog log = logged(2, [&] {
    crew.both([] { nap_ms(20); }, [] { nap_ms(1); });
    for (int k = 0; k < 20; ++k) crew.each(2, [](std::size_t) { nap_ms(1); });
  });
  CHECK(log.locks.empty());
}

TEST_CASE("forks are counted, however many of them are written down") {
  TaskCrew crew(2);
  const auto leaves = [&](auto&& self, int levels) -> int {
    if (levels == 0) return 1;
    const auto [a, b] = crew.both([&] { return self(self, levels - 1); }, [&] { return self(self, levels - 1); });
    return a + b;
  };
  leaves(leaves, 4);
  int found = 0;
  const LaneLog log = logged(2, [&] { found = leaves(leaves, 16); });
  CHECK(found == 1 << 16);
  CHECK(log.forks == (1 << 16) - 1);
  CHECK(log.forks_told < log.forks / 2);  // most take next to nothing
  const LaneSums sums = sums_of(log);
  CHECK(sums.critical_path_s > 0);
  CHECK(sums.critical_path_s < sums.wall_s);
}

TEST_CASE("the critical path of forks that take long is whole, with many short ones beside") {
  TaskCrew crew(2);
  const auto shorts = [&](auto&& self, int levels) -> void {
    if (levels > 0) crew.both([&] { self(self, levels - 1); }, [&] { self(self, levels - 1); });
  };
  // Four naps in turn on one side, one on the other.
  const LaneLog log = logged(2, [&] {
    crew.both(
        [&] {
          for (int k = 0; k < 4; ++k) crew.both([] { nap_ms(10); }, [&] { shorts(shorts, 8); });
        },
        [] { nap_ms(10); });
  });
  const LaneSums sums = sums_of(log);
  CHECK(sums.critical_path_s > 0.039);
  CHECK(sums.critical_path_s <= sums.wall_s + 0.001);
}
