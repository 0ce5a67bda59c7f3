// What workers share against its sequential answer, under stress.
#include "support/stress.hpp"

#include <doctest/doctest.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <memory>
#include <set>
#include <stdexcept>
#include <string>
#include <vector>

#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/share/key_map.hpp"
#include "antcrew/share/key_set.hpp"
#include "antcrew/share/locked.hpp"
#include "antcrew/share/pipeline.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using test::operations;
using test::seed;
using test::Stress;

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
            .as_read("pack", [&](std::unique_ptr<std::uint64_t> i) { out.push_back(*i); });
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

TEST_CASE("stress: pipelines whose stages wait for work of the same crew") {
  Stress stress;
  CAPTURE(seed());
  const test::Deadline deadline("stress: pipelines that wait", std::chrono::seconds(300));
  std::size_t done = 0;
  while (done < operations / 10) {
    TaskCrew crew(stress.workers());
    Locked<std::uint64_t> locked;
    const std::uint64_t n = 200 + stress.random() % 2000;
    std::uint64_t next = 0;
    std::vector<std::uint64_t> out;
    auto line =
        pipeline([&]() -> std::optional<std::uint64_t> { return next < n ? std::optional(next++) : std::nullopt; })
            .many("fork",
                  [&](std::uint64_t i) {
                    auto [a, b] = crew.both([i] { return i; }, [] { return std::uint64_t{0}; });
                    return a + b;
                  })
            .many("group",
                  [&](std::uint64_t i) {
                    TaskGroup group(crew);
                    std::atomic<std::uint64_t> sum{0};
                    for (std::uint64_t k = i % 4; k > 0; --k) group.begin([&] { ++sum; });
                    group.wait();
                    return sum == i % 4 ? i : n;
                  })
            .alone("under a lock",
                   [&](std::uint64_t i) {
                     locked.with([&](std::uint64_t& sum) {
                       crew.each(i % 5, Grain{1}, [](std::size_t) {});
                       sum += i;
                     });
                     return i;
                   })
            .as_read("later", [&](std::uint64_t i) { out.push_back(crew.begin([i] { return i; }).get()); });
    line.run(crew, {.items = 1 + stress.random() % 40});
    REQUIRE(out.size() == n);
    CHECK(std::is_sorted(out.begin(), out.end()));
    CHECK(out.back() == n - 1);
    done += 4 * n;
  }
}
