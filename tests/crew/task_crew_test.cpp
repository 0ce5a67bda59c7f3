#include "antcrew/crew/task_crew.hpp"

#include <doctest/doctest.h>
#include <pthread.h>

#include <atomic>
#include <chrono>
#include <functional>
#include <mutex>
#include <numeric>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/machine/clock.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using test::meet;
using namespace std::chrono_literals;

namespace {

long fibonacci(TaskCrew& crew, int n) {
  if (n < 2) return n;
  auto [a, b] = crew.both([&] { return fibonacci(crew, n - 1); }, [&] { return fibonacci(crew, n - 2); });
  return a + b;
}

// Each level leaves one task open while it goes deeper.
std::size_t deep(TaskCrew& crew, std::size_t levels) {
  if (levels == 0) return 0;
  auto [below, here] = crew.both([&] { return deep(crew, levels - 1); }, [] { return std::size_t{1}; });
  return below + here;
}

}  // namespace

TEST_CASE("recursion with both gives the sequential answer for every worker count") {
  for (const int workers : {1, 2, 3, 8}) {
    TaskCrew crew(workers);
    CHECK(fibonacci(crew, 20) == 6765);
  }
}

TEST_CASE("both halves really run side by side, also those of a fork inside the second one") {
  TaskCrew crew(4);
  std::atomic<int> here{0};
  std::atomic<int> met{0};
  const auto together = [&] { met += meet(here, 3) ? 1 : 0; };
  crew.both(together, [&] { crew.both(together, together); });
  CHECK(met == 3);
}

TEST_CASE("both carries answers that only move, mixed types, and nothing") {
  TaskCrew crew(2);
  auto [text, number] = crew.both([] { return std::make_unique<std::string>("ebb"); }, [] { return 7; });
  CHECK(*text == "ebb");
  CHECK(number == 7);
  const std::string ebb = "a name";
  const auto by_reference = [&]() -> const std::string& { return ebb; };
  auto [a, b] = crew.both(by_reference, by_reference);
  CHECK(a + b == "a namea name");
  CHECK(crew.begin(by_reference).get() == "a name");
  int seen = 0;
  crew.both([] { return 1; }, [&] { seen = 2; });
  CHECK(seen == 2);
}

TEST_CASE("exceptions of both: the first function's goes before the second's, and nothing is left behind") {
  for (const int workers : {1, 3}) {
    TaskCrew crew(workers);
    std::atomic<int> ended{0};
    const auto slow_throw = [&]() -> int {
      std::this_thread::sleep_for(2ms);
      ++ended;
      throw std::runtime_error("second");
    };
    const auto throws = []() -> int { throw std::logic_error("first"); };
    for (int again = 0; again < 20; ++again) {
      CHECK_THROWS_WITH_AS(crew.both(throws, slow_throw), "first", std::logic_error);
      const int after = ended;
      std::this_thread::sleep_for(1ms);
      CHECK(ended == after);  // the second half was either waited for or never begun
      CHECK_THROWS_WITH_AS(crew.both([] { return 1; }, slow_throw), "second", std::runtime_error);
    }
    CHECK(fibonacci(crew, 12) == 144);
  }
}

// A stack of 1 MiB: sanitizers cannot follow deeper ones.
static void on_a_small_stack(const std::function<void()>& work) {
  pthread_attr_t attributes;
  pthread_attr_init(&attributes);
  pthread_attr_setstacksize(&attributes, 1u << 20);
  pthread_t thread{};
  const auto entry = [](void* fn) -> void* {
    (*static_cast<const std::function<void()>*>(fn))();
    return nullptr;
  };
  REQUIRE(pthread_create(&thread, &attributes, entry, const_cast<std::function<void()>*>(&work)) == 0);
  pthread_join(thread, nullptr);
  pthread_attr_destroy(&attributes);
}

TEST_CASE("recursion a hundred thousand deep is refused with what to do, and the crew works on") {
  for (const int workers : {1, 2}) {
    TaskCrew crew(workers, CrewOptions{.stack_bytes = 1u << 20});
    CHECK(deep(crew, 500) == 500);
    std::string said;
    on_a_small_stack([&] {
      try {
        deep(crew, 100'000);
      } catch (const Error& error) {
        said = error.id() + ": " + error.what();
      }
    });
    CHECK(said.find("crew.stack: TaskCrew, both: recursion has come near the end of a stack") == 0);
    CHECK(said.find("ulimit -s") != std::string::npos);
    CHECK(deep(crew, 500) == 500);
  }
}

TEST_CASE("loops: every index once, for all grains, worker counts and lengths") {
  for (const int workers : {1, 2, 3, 8}) {
    TaskCrew crew(workers);
    for (const Grain grain : {Grain{}, Grain{1}, Grain{7}, Grain{100'000}}) {
      for (const std::size_t n : {0u, 1u, 2u, 5u, 64u, 1000u, 4097u}) {
        std::vector<std::atomic<int>> by_range(n);
        std::vector<std::atomic<int>> by_index(n);
        crew.ranges(n, grain, [&](Range range) {
          REQUIRE_FALSE(range.empty());
          if (grain.items > 0) REQUIRE(range.size() <= grain.items);
          for (const std::size_t i : range) ++by_range[i];
        });
        crew.each(n, grain, [&](std::size_t i) { ++by_index[i]; });
        for (std::size_t i = 0; i < n; ++i) CHECK((by_range[i] == 1 && by_index[i] == 1));
      }
    }
  }
}

TEST_CASE("an uneven loop is levelled: the slow indices at its start are shared out") {
  TaskCrew crew(4);
  std::atomic<int> here{0};
  std::atomic<int> met{0};
  crew.each(400, Grain{1}, [&](std::size_t i) {
    if (i % 25 == 0 && i < 100) met += meet(here, 4) ? 1 : 0;  // a static split gives all four to one worker
  });
  CHECK(met == 4);
}

TEST_CASE("the usual grain is given up where slow indices lie in one piece") {
  for (const int workers : {2, 4}) {
    CAPTURE(workers);
    TaskCrew crew(workers);
    std::vector<std::atomic<int>> slow(static_cast<std::size_t>(workers));
    std::vector<std::atomic<int>> times(1030);
    crew.each(1030, [&](std::size_t i) {
      ++times[i];
      if (i >= 30) return;
      std::this_thread::sleep_for(3ms);
      ++slow[static_cast<std::size_t>(this_worker())];
    });
    for (const auto& by_one : slow) CHECK(by_one <= 30 / workers + 6);
    for (const auto& time : times) CHECK(time == 1);
  }
}

TEST_CASE("collect and fold give the same as a ThreadCrew, to the last bit") {
  TaskCrew tasks(3);
  ThreadCrew threads(2);
  const auto texts = tasks.collect(1000, [](std::size_t i) { return std::string(i % 50, 'x') + std::to_string(i); });
  CHECK(texts[777] == std::string(27, 'x') + "777");
  const auto sum = [](auto& crew) {
    return crew.fold(
        100'001, 0.5,
        [](Range range) {
          double part = 0;
          for (const std::size_t i : range) part += 1.0 / (1.0 + static_cast<double>(i));
          return part;
        },
        std::plus<>());
  };
  CHECK(sum(tasks) == sum(threads));
}

TEST_CASE("the first exception of a loop comes out, the rest is left out, and loops inside bodies work") {
  TaskCrew crew(4);
  std::atomic<int> done{0};
  const auto call = [&] {
    crew.each(100'000, Grain{1}, [&](std::size_t i) {
      if (i == 10) throw std::out_of_range("gauge 10");
      ++done;
      std::this_thread::sleep_for(10us);
    });
  };
  CHECK_THROWS_WITH_AS(call(), "gauge 10", std::out_of_range);
  CHECK(done < 50'000);
  std::atomic<int> total{0};
  crew.each(30, Grain{1}, [&](std::size_t) { crew.each(100, Grain{3}, [&](std::size_t) { ++total; }); });
  CHECK(total == 3000);
}

TEST_CASE("work begun now and waited for later: answers, exceptions, nothing, from inside and outside") {
  for (const int workers : {1, 2, 5}) {
    TaskCrew crew(workers);
    Later<std::string> text = crew.begin([] { return std::string("flood"); });
    Later<void> nothing = crew.begin([] {});
    Later<int> throws = crew.begin([]() -> int { throw std::runtime_error("no chart"); });
    CHECK(text.get() == "flood");
    nothing.get();
    CHECK_THROWS_WITH_AS(throws.get(), "no chart", std::runtime_error);
    std::atomic<long> sum{0};
    crew.each(100, Grain{1}, [&](std::size_t i) {
      auto first = crew.begin([i] { return static_cast<long>(i); });
      auto second = crew.begin([&crew, i] { return crew.begin([i] { return static_cast<long>(2 * i); }).get(); });
      sum += first.get() + second.get();
    });
    CHECK(sum == 3 * 4950);
  }
}

TEST_CASE("work that nobody waits for is waited for at the end of the call, counted, and its exception comes out") {
  for (const int workers : {1, 3}) {
    TaskCrew crew(workers);
    std::atomic<int> ended{0};
    crew.each(4, Grain{1}, [&](std::size_t) {
      static_cast<void>(crew.begin([&] {
        std::this_thread::sleep_for(5ms);
        ++ended;
      }));
    });
    CHECK(ended == 4);
    CHECK(crew.settle() == 4);
    CHECK(crew.settle() == 0);
    static_cast<void>(crew.begin([] { throw std::runtime_error("lost and found"); }));
    CHECK_THROWS_WITH_AS(crew.settle(), "lost and found", std::runtime_error);
    CHECK(crew.settle() == 1);
  }
}

TEST_CASE("a handle outlives the call in which its work was begun") {
  TaskCrew crew(2);
  std::optional<Later<int>> kept;
  crew.each(1, [&](std::size_t) { kept = crew.begin([] { return 5; }); });
  CHECK(kept->get() == 5);
}

TEST_CASE("a second thread's calls are right while the first one's is under way") {
  TaskCrew crew(2);
  std::vector<std::thread> threads;
  std::atomic<int> right{0};
  for (int t = 0; t < 4; ++t) {
    threads.emplace_back([&] {
      for (int again = 0; again < 200; ++again) {
        std::atomic<long> sum{0};
        crew.each(100, Grain{3}, [&](std::size_t i) { sum += static_cast<long>(i); });
        const bool loop = sum == 4950;
        const bool recursion = fibonacci(crew, 8) == 21;
        const bool later = crew.begin([] { return 3; }).get() == 3;
        TaskGroup group(crew);
        std::atomic<int> children{0};
        for (int k = 0; k < 5; ++k) group.begin([&] { ++children; });
        group.wait();
        if (loop && recursion && later && children == 5) ++right;
      }
    });
  }
  for (std::thread& thread : threads) thread.join();
  CHECK(right == 800);
}

TEST_CASE("crews inside each other's bodies") {
  TaskCrew outer(2);
  TaskCrew inner(2);
  ThreadCrew threads(2);
  std::atomic<int> total{0};
  outer.each(8, Grain{1}, [&](std::size_t) {
    inner.each(8, Grain{1}, [&](std::size_t) { outer.both([&] { ++total; }, [&] { ++total; }); });
  });
  CHECK(total == 128);
  threads.ranges(2, [&](Range) { CHECK(fibonacci(outer, 10) == 55); });
}

TEST_CASE("an idle crew sleeps, and one of 64 starts and ends") {
  TaskCrew crew(2);
  CHECK(fibonacci(crew, 10) == 55);
  std::this_thread::sleep_for(20ms);
  const std::int64_t before = process_cpu_ns();
  std::this_thread::sleep_for(200ms);
  CHECK(static_cast<double>(process_cpu_ns() - before) * 1e-6 < 20);
  TaskCrew many(64);
  const std::int64_t start = now_ns();
  many.each(128, Grain{1}, [](std::size_t) { std::this_thread::sleep_for(20ms); });
  CHECK(static_cast<double>(now_ns() - start) * 1e-9 < 1.3);  // one worker: 2.56
}

TEST_CASE("destroying a crew waits for what was begun") {
  std::atomic<int> ended{0};
  for (const int workers : {1, 2, 8}) {
    ended = 0;
    std::optional<Later<void>> kept;
    {
      TaskCrew crew(workers);
      for (int k = 0; k < 50; ++k) static_cast<void>(crew.begin([&] { ++ended; }));
    }
    CHECK(ended == 50);
  }
}
