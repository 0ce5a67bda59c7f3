#include "antcrew/crew/thread_crew.hpp"

#include <doctest/doctest.h>
#include <unistd.h>

#include <atomic>
#include <chrono>
#include <mutex>
#include <numeric>
#include <set>
#include <stdexcept>
#include <string>
#include <thread>

#include "antcrew/base/error.hpp"
#include "antcrew/machine/clock.hpp"

using namespace antcrew;
using namespace std::chrono_literals;

namespace {

const std::vector<Split> splits = {Split::even(),          Split::chunks(1),   Split::chunks(7),
                                   Split::chunks(100'000), Split::tapering(1), Split::tapering(50)};

}  // namespace

TEST_CASE("every index once, for all splits, worker counts and lengths") {
  for (const int workers : {1, 2, 3, 8}) {
    ThreadCrew crew(workers);
    for (const Split split : splits) {
      for (const std::size_t n : {0u, 1u, 2u, 5u, 64u, 1000u, 4097u}) {
        std::vector<std::atomic<int>> by_range(n);
        std::vector<std::atomic<int>> by_index(n);
        crew.ranges(n, split, [&](Range range) {
          REQUIRE_FALSE(range.empty());
          for (const std::size_t i : range) ++by_range[i];
        });
        crew.each(n, split, [&](std::size_t i) { ++by_index[i]; });
        for (std::size_t i = 0; i < n; ++i) CHECK((by_range[i] == 1 && by_index[i] == 1));
      }
    }
  }
}

TEST_CASE("pieces have the lengths that the split says") {
  ThreadCrew crew(2);
  std::mutex mutex;
  std::multiset<std::size_t> lengths;
  const auto note = [&](Range range) {
    const std::lock_guard lock(mutex);
    lengths.insert(range.size());
  };
  crew.ranges(10, Split::chunks(4), note);
  CHECK(lengths == std::multiset<std::size_t>{2, 4, 4});
  lengths.clear();
  crew.ranges(9, Split::even(), note);
  CHECK(lengths == std::multiset<std::size_t>{4, 5});
  lengths.clear();
  crew.ranges(1000, Split::tapering(10), note);
  CHECK(*lengths.rbegin() == 250);  // half of an even share
  CHECK(*std::next(lengths.begin()) >= 10);
}

TEST_CASE("workers really run side by side: waiting work takes as long as its longest share") {
  ThreadCrew crew(16);  // far more than processors: none may spin
  const std::int64_t start = now_ns();
  crew.each(32, Split::chunks(1), [](std::size_t) { std::this_thread::sleep_for(20ms); });
  const double waited_s = static_cast<double>(now_ns() - start) * 1e-9;
  CHECK(waited_s >= 0.040);
  CHECK(waited_s < 0.32);  // half of what one worker would need
}

TEST_CASE("collect gives results in order, for types that move, throw or own memory") {
  ThreadCrew crew(3);
  const auto texts = crew.collect(1000, [](std::size_t i) { return std::string(i % 50, 'x') + std::to_string(i); });
  REQUIRE(texts.size() == 1000);
  CHECK(texts[777] == std::string(27, 'x') + "777");
  const auto owned = crew.collect(10, [](std::size_t i) { return std::make_unique<std::size_t>(i); });
  CHECK(*owned[9] == 9);
  CHECK(crew.collect(0, [](std::size_t) { return 1.0; }).empty());
}

TEST_CASE("collect destroys exactly what was made when a worker throws") {
  static std::atomic<int> alive{0};
  struct Counted {
    Counted() { ++alive; }
    Counted(const Counted&) = delete;
    ~Counted() { --alive; }
  };
  for (const int workers : {1, 4}) {
    ThreadCrew crew(workers);
    for (const Split split : splits) {
      CHECK_THROWS_AS(crew.collect(500, split,
                                   [](std::size_t i) -> Counted {
                                     if (i == 321) throw std::runtime_error("no sounding here");
                                     return {};
                                   }),
                      std::runtime_error);
      CHECK(alive == 0);
    }
  }
}

TEST_CASE("fold gives the very same floating-point sum for every worker count, and start enters once") {
  const auto sum_with = [](int workers, std::size_t n) {
    ThreadCrew crew(workers);
    return crew.fold(
        n, 1000.0,
        [](Range range) {
          double sum = 0;
          for (const std::size_t i : range) sum += 1.0 / (1.0 + static_cast<double>(i));
          return sum;
        },
        std::plus<>());
  };
  for (const std::size_t n : {0u, 1u, 3u, 1000u, 123'457u}) {
    const double alone = sum_with(1, n);
    for (const int workers : {2, 3, 5, 8}) CHECK(sum_with(workers, n) == alone);
  }
  CHECK(sum_with(4, 0) == 1000.0);
  CHECK(sum_with(4, 1) == 1001.0);
}

TEST_CASE("fold combines in index order") {
  ThreadCrew crew(4);
  const std::string text = crew.fold(
      2000, std::string(">"),
      [](Range range) {
        std::string part;
        for (const std::size_t i : range) part += static_cast<char>('a' + i % 26);
        return part;
      },
      [](std::string a, const std::string& b) { return a + b; });
  REQUIRE(text.size() == 2001);
  for (std::size_t i = 0; i < 2000; ++i) REQUIRE(text[i + 1] == static_cast<char>('a' + i % 26));
}

TEST_CASE("the first exception comes out at the call and the rest is cancelled") {
  ThreadCrew crew(4);
  std::atomic<int> done{0};
  const auto call = [&] {
    crew.each(100'000, Split::chunks(1), [&](std::size_t i) {
      if (i == 10) throw std::out_of_range("gauge 10");
      ++done;
      std::this_thread::sleep_for(10us);
    });
  };
  CHECK_THROWS_WITH_AS(call(), "gauge 10", std::out_of_range);
  CHECK(done < 50'000);
  int sum = 0;  // and the crew works on afterwards
  std::mutex mutex;
  crew.each(10, [&](std::size_t i) {
    const std::lock_guard lock(mutex);
    sum += static_cast<int>(i);
  });
  CHECK(sum == 45);
}

TEST_CASE("an exception thrown by every worker at once is thrown once") {
  ThreadCrew crew(8);
  for (int again = 0; again < 50; ++again) {
    CHECK_THROWS_AS(crew.ranges(8, [](Range) { throw 7; }), int);
  }
}

TEST_CASE("a call inside a body on the same crew runs in the calling worker") {
  ThreadCrew crew(3);
  std::atomic<int> total{0};
  std::atomic<bool> stayed{true};
  crew.each(30, Split::chunks(1), [&](std::size_t) {
    const auto here = std::this_thread::get_id();
    crew.each(10, Split::chunks(3), [&](std::size_t) {
      ++total;
      if (std::this_thread::get_id() != here) stayed = false;
    });
    CHECK(crew.collect(5, [](std::size_t i) { return i; }).size() == 5);
  });
  CHECK(total == 300);
  CHECK(stayed);
}

TEST_CASE("two crews inside each other work; the outer one from the inner's other worker is refused") {
  ThreadCrew outer(2);
  ThreadCrew inner(2);
  std::atomic<int> total{0};
  outer.ranges(1, [&](Range) { inner.each(100, [&](std::size_t) { ++total; }); });
  CHECK(total == 100);
  const auto entangled = [&] {
    outer.ranges(1, [&](Range) { inner.ranges(2, [&](Range) { outer.each(10, [](std::size_t) {}); }); });
  };
  CHECK_THROWS_WITH_AS(entangled(),
                       "ThreadCrew: another thread's call is under way on this crew; give each calling thread a "
                       "crew of its own",
                       Error);
}

TEST_CASE("an idle crew sleeps") {
  ThreadCrew crew(2);
  crew.each(2, [](std::size_t) {});
  std::this_thread::sleep_for(20ms);
  const std::int64_t before = process_cpu_ns();
  std::this_thread::sleep_for(200ms);
  const double cpu_ms = static_cast<double>(process_cpu_ns() - before) * 1e-6;
  CHECK(cpu_ms < 20);  // spinning would be 200
}

TEST_CASE("absurd worker counts are refused with what a crew can have") {
  for (const int count : {0, -1, 5000}) {
    CHECK_THROWS_WITH_AS(ThreadCrew{count},
                         ("ThreadCrew: " + std::to_string(count) + " workers; a crew has 1 to 4096 workers").c_str(),
                         Error);
  }
}

TEST_CASE("what was asked of pinning and stacks is kept beside what was granted") {
  ThreadCrew crew(2, CrewOptions{.pin = Pin::apart, .stack_bytes = 300'000});
  CHECK(crew.facts().asked.pin == Pin::apart);
  CHECK(crew.facts().asked_processors.size() == 2);
  CHECK(crew.facts().pinned_as_asked());
  CHECK(crew.facts().granted_stack_bytes >= 300'000);
  CHECK(crew.facts().granted_stack_bytes % static_cast<std::size_t>(sysconf(_SC_PAGESIZE)) == 0);
  std::mutex mutex;
  std::set<int> processors;
  crew.ranges(2, [&](Range) {
    const std::lock_guard lock(mutex);
    processors.insert(sched_getcpu());
  });
  const std::set<int> asked(crew.facts().asked_processors.begin(), crew.facts().asked_processors.end());
  CHECK(processors == asked);
}

// A frame of its own: sanitizers touch all of it on entry.
[[gnu::noinline]] static char touch_32_mib() {
  volatile char big[32u << 20];
  for (std::size_t i = 0; i < sizeof big; i += 4096) big[i] = 1;
  return big[4096];
}

TEST_CASE("a stack as large as asked can be used") {
  ThreadCrew crew(2, CrewOptions{.stack_bytes = 64u << 20});
  std::atomic<int> touched{0};
  crew.ranges(2, [&](Range range) {
    if (range.first == 1) touched = touch_32_mib();  // the caller, worker 0, has its own stack
  });
  CHECK(touched == 1);
}

TEST_CASE("many short regions, with the caller sometimes away: nothing lost, nothing stuck") {
  for (const int workers : {2, 4, 7}) {
    ThreadCrew crew(workers);
    std::atomic<std::size_t> total{0};
    for (std::size_t region = 0; region < 3000; ++region) {
      crew.each(static_cast<std::size_t>(workers), [&](std::size_t) { total.fetch_add(1, std::memory_order_relaxed); });
      if (region % 97 == 0) std::this_thread::sleep_for(std::chrono::microseconds(region % 200));
    }
    CHECK(total == 3000u * static_cast<std::size_t>(workers));
  }
}
