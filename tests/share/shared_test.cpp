#include <doctest/doctest.h>

#include <array>
#include <atomic>
#include <chrono>
#include <functional>
#include <map>
#include <memory>
#include <numeric>
#include <set>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/share/key_map.hpp"
#include "antcrew/share/key_set.hpp"
#include "antcrew/share/locked.hpp"
#include "antcrew/share/tally.hpp"
#include "share/keys.hpp"
#include "support/allocations.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using test::FewOwnKeys;
using test::key;
using namespace std::chrono_literals;

namespace {

struct SameHash {
  std::size_t operator()(const std::string&) const noexcept { return 5; }
};

}  // namespace

TEST_CASE("Locked: one at a time, and its waits are counted") {
  ThreadCrew crew(4);
  Locked<std::vector<int>> list;
  crew.each(1000, Split::chunks(1),
            [&](std::size_t i) { list.with([&](std::vector<int>& v) { v.push_back(static_cast<int>(i)); }); });
  CHECK(list.with([](std::vector<int>& v) { return v.size(); }) == 1000);
  Locked<int> slow;
  std::atomic<int> here{0};
  crew.ranges(4, [&](Range) {
    ++here;
    while (here < 4) std::this_thread::yield();
    slow.with([](int&) { std::this_thread::sleep_for(20ms); });
  });
  CHECK(slow.waited().count == 3);
  CHECK(slow.waited().seconds >= 0.1);  // 20 + 40 + 60 ms
}

TEST_CASE("Locked: an exception leaves it unlocked") {
  Locked<int> number(3);
  CHECK_THROWS_AS(number.with([](int&) { throw std::runtime_error("dry"); }), std::runtime_error);
  CHECK(number.with([](int& n) { return n; }) == 3);
}

TEST_CASE("Tally: every worker's part, from crews of all kinds and bare threads, counted once") {
  Tally<long> sum;
  Tally<std::set<std::size_t>> seen;
  ThreadCrew threads(5);
  TaskCrew tasks(3);
  const auto note = [&](std::size_t i) {
    sum.mine() += static_cast<long>(i);
    seen.mine().insert(i);
  };
  threads.each(1000, Split::chunks(1), note);
  tasks.each(1000, Grain{1}, note);
  for (int again = 0; again < 50; ++again) std::thread([&] { note(1); }).join();
  CHECK(sum.merged(0L, std::plus<>()) == 2 * 499'500 + 50);
  const auto all = seen.merged(std::set<std::size_t>(), [](auto a, const auto& b) {
    a.insert(b.begin(), b.end());
    return a;
  });
  CHECK(all.size() == 1000);
  Tally<int> least(1000);
  threads.each(100, [&](std::size_t i) { least.mine() = std::min(least.mine(), 500 - static_cast<int>(i)); });
  CHECK(least.merged(1000, [](int a, int b) { return std::min(a, b); }) == 401);
}

TEST_CASE("Tally: a large value is made for who asks, for nobody else") {
  struct Chart {
    explicit Chart(std::atomic<int>* made_of) : made(made_of), depths(1 << 16) {}
    Chart(const Chart& other) : made(other.made), depths(other.depths) { ++*made; }
    std::atomic<int>* made;
    std::vector<int> depths;
    std::array<char, 1024> notes{};
  };
  std::atomic<int> made{0};
  Tally<Chart> charts{Chart(&made)};
  const int before = made;
  charts.mine().depths[3] = 7;
  charts.mine().depths[4] = 1;
  CHECK(made - before == 1);
  ThreadCrew crew(8);
  crew.ranges(8, [&](Range) { ++charts.mine().depths[3]; });
  CHECK(made - before <= 8);
  int seen = 0;
  charts.walk([&](Chart&) { ++seen; });
  CHECK(seen == made - before);
  CHECK(charts.merged(0, [](int sum, const Chart& chart) { return sum + chart.depths[3]; }) == 15);
}

TEST_CASE("KeySet: what one thread inserts, for numbers from 0 and for text") {
  KeySet<std::uint64_t> numbers;
  std::set<std::uint64_t> expected;
  for (std::size_t i = 0; i < 50'000; ++i) {
    CHECK(numbers.contains(key(i, 20'000)) == (expected.count(key(i, 20'000)) > 0));
    CHECK(numbers.insert(key(i, 20'000)) == expected.insert(key(i, 20'000)).second);
  }
  CHECK(numbers.size() == 20'000);
  CHECK_FALSE(numbers.contains(12'345));
  CHECK(numbers.take_sorted() == std::vector<std::uint64_t>(expected.begin(), expected.end()));
  CHECK(numbers.size() == 0);
  CHECK(numbers.insert(0));

  KeySet<std::string> words;
  CHECK(words.insert("ebb"));
  CHECK_FALSE(words.insert("ebb"));
  CHECK(words.insert(""));
  for (int i = 0; i < 10'000; ++i) words.insert("buoy " + std::to_string(i % 3000));
  CHECK(words.size() == 3002);
  CHECK(words.contains("buoy 2999"));
  CHECK_FALSE(words.contains("buoy 3000"));
  std::size_t walked = 0;
  words.walk([&](const std::string&) { ++walked; });
  CHECK(walked == 3002);
  CHECK(words.take_sorted().front().empty());
}

TEST_CASE("KeySet: of workers that insert the same key at once, one is told that it is new") {
  for (const int workers : {2, 6}) {
    ThreadCrew crew(workers);
    for (const std::size_t distinct : {1u, 7u, 1000u, 60'000u}) {
      KeySet<std::uint64_t> set;
      std::atomic<std::size_t> added{0};
      std::atomic<bool> missing{false};
      crew.each(200'000, Split::chunks(16), [&](std::size_t i) {
        if (set.insert(key(i, distinct))) ++added;
        if (!set.contains(key(i, distinct))) missing = true;
      });
      const std::size_t expected = std::min<std::size_t>(distinct, 200'000);
      CHECK(added == expected);
      CHECK(set.size() == expected);
      CHECK_FALSE(missing);
      CHECK(set.take_sorted().size() == expected);
    }
  }
}

TEST_CASE("KeySet: others come while the first worker adds without a lock") {
  ThreadCrew crew(3);
  for (std::size_t round = 0; round < 2000; ++round) {
    KeySet<std::uint64_t> set;
    std::atomic<std::size_t> added{0};
    const std::size_t alone = round % 50 * 8;  // what worker 0 adds before it tells the others
    std::atomic<bool> come{false};
    crew.ranges(3, Split::even(), [&](Range mine) {
      while (mine.first != 0 && !come) std::this_thread::yield();
      for (std::size_t i = 0; i < 900; ++i) {
        if (mine.first == 0 && i == alone) come = true;
        if (set.insert(key(i, 900))) ++added;
      }
    });
    REQUIRE(added == 900);
    REQUIRE(set.size() == 900);
  }
}

TEST_CASE("KeySet: a hash that is always the same is slow, not wrong") {
  KeySet<std::string, SameHash> set;
  for (int i = 0; i < 2000; ++i) CHECK(set.insert(std::to_string(i)));
  for (int i = 0; i < 2000; ++i) CHECK_FALSE(set.insert(std::to_string(i)));
  CHECK(set.size() == 2000);
}

TEST_CASE("KeyMap: adding counts the same as one thread does, few keys and many") {
  for (const int workers : {1, 2, 5}) {
    ThreadCrew crew(workers);
    for (const std::size_t distinct : {1u, 1000u, 30'000u}) {
      const FewOwnKeys few(workers == 5 ? 10'000 : 1'000'000);  // with 5, sums are handed over on the way
      KeyMap<std::uint64_t, std::uint32_t> map;
      const std::size_t n = 2 * distinct + 100'000;
      std::map<std::uint64_t, std::uint32_t> expected;
      for (std::size_t i = 0; i < n; ++i) ++expected[key(i, distinct)];
      crew.each(n, [&](std::size_t i) { map.add(key(i, distinct), 1); });
      CHECK(*map.find(key(3, distinct)) == expected[key(3, distinct)]);
      CHECK_FALSE(map.find(99).has_value());
      CHECK(map.size() == expected.size());
      const auto sorted = map.take_sorted();
      REQUIRE(sorted.size() == expected.size());
      CHECK(std::equal(sorted.begin(), sorted.end(), expected.begin(),
                       [](const auto& a, const auto& b) { return a.first == b.first && a.second == b.second; }));
      CHECK(map.size() == 0);
    }
  }
}

TEST_CASE("KeyMap: while workers add, another one never sees a sum go down or beyond what was added") {
  ThreadCrew crew(3);
  KeyMap<std::uint64_t, std::uint64_t> map;
  constexpr std::uint64_t each = 150'000;
  constexpr std::size_t others = 300'000;
  const FewOwnKeys few(20'000);  // sums are handed over meanwhile
  std::atomic<int> adding{2};
  std::atomic<bool> wrong{false};
  crew.ranges(3, [&](Range range) {
    if (range.first == 2) {
      for (std::uint64_t last = 0; adding > 0;) {
        const std::uint64_t now = map.find(1).value_or(0);
        if (now < last || now > 2 * each) wrong = true;
        last = now;
      }
      return;
    }
    for (std::uint64_t i = 0; i < each; ++i) {
      map.add(1, 1);
      map.add(2 + (i * 2 + range.first) % others, 1);
    }
    --adding;
  });
  CHECK_FALSE(wrong);
  CHECK(*map.find(1) == 2 * each);
}

TEST_CASE("KeyMap: after its size was asked for, workers sum up for themselves as before") {
  constexpr std::size_t keys = 2000;
  KeyMap<std::uint32_t, std::uint64_t> sums;
  const auto count = [&] {
    for (std::uint32_t k = 0; k < keys; ++k) sums.add(k, k);
  };
  count();
  CHECK(sums.size() == keys);
  for (std::uint32_t k = 0; k < 1000; ++k) sums.add(1'000'000 + k, 1);
  const std::size_t before = test::allocations();
  for (std::uint32_t k = 1000; k < 2000; ++k) sums.add(1'000'000 + k, 1);
  CHECK(test::allocations() - before < 10);  // where all workers meet each new key has a node of its own
  CHECK(sums.size() == keys + 2000);
  CHECK(sums.size() == keys + 2000);
  const std::size_t settled = test::allocations();
  for (int round = 0; round < 200; ++round) {
    count();
    REQUIRE(sums.size() == keys + 2000);
  }
  CHECK(test::allocations() == settled);
  CHECK(sums.find(1999) == 1999 * 201);
  std::uint64_t total = 0;
  for (const auto& [k, sum] : sums.take_sorted()) total += sum;
  CHECK(total == 201 * (keys * (keys - 1) / 2) + 2000);
}

TEST_CASE("KeyMap: who asks while sums are handed over sees all of what was added before") {
  constexpr std::uint32_t keys = 3000;
  KeyMap<std::uint32_t, std::uint64_t> sums;
  for (std::uint32_t k = 1; k <= keys; ++k) sums.add(k, 5);
  std::atomic<bool> over{false};
  std::atomic<int> wrong{0};
  std::thread asks([&] {
    for (std::uint32_t k = 1; !over; k = k % keys + 1) {
      const std::uint64_t sum = sums.find(k).value_or(0);
      if (sum < 5) ++wrong;
    }
  });
  for (int round = 0; round < 60; ++round) {
    for (std::uint32_t k = 1; k <= keys; ++k) sums.add(k, 1);
    CHECK(sums.size() == keys);
  }
  over = true;
  asks.join();
  CHECK(wrong == 0);
  CHECK(sums.find(7) == 65);
}

TEST_CASE("KeyMap: update has the value to itself, insert keeps the first, and mixing with add is refused") {
  TaskCrew crew(4);
  KeyMap<std::string, std::vector<std::size_t>> tracks;
  crew.each(10'000, Grain{8}, [&](std::size_t i) {
    tracks.update("tag " + std::to_string(i % 40), [&](std::vector<std::size_t>& t) { t.push_back(i); });
  });
  CHECK(tracks.size() == 40);
  std::size_t fixes = 0;
  tracks.walk([&](const std::string&, const std::vector<std::size_t>& t) { fixes += t.size(); });
  CHECK(fixes == 10'000);
  CHECK_FALSE(tracks.insert("tag 3", {}));
  CHECK(tracks.insert("tag 99", {7}));
  CHECK(tracks.find("tag 99")->front() == 7);
  KeyMap<int, double> sums;
  sums.add(0, 0.5);
  sums.add(0, 0.25);
  CHECK(*sums.find(0) == 0.75);
  CHECK_THROWS_WITH_AS(sums.update(0, [](double&) {}),
                       "KeyMap: one map was both added to and updated in place; use two maps, or do the adding inside "
                       "update()",
                       Error);
}

TEST_CASE("a tally's initial value serves types that can only be copied, and types without a default") {
  struct Fixed {
    explicit Fixed(int v) : value(v) {}
    Fixed(const Fixed&) = default;
    Fixed& operator=(const Fixed&) = delete;
    int value;
    int added = 0;
  };
  ThreadCrew crew(3);
  Tally<Fixed> tally(Fixed(7));
  crew.each(300, Split::chunks(1), [&](std::size_t) {
    Fixed& mine = tally.mine();
    if (mine.value == 7) ++mine.added;
  });
  CHECK(tally.merged(0, [](int sum, const Fixed& one) { return sum + one.added; }) == 300);
  Tally<std::unique_ptr<int>> owned;
  crew.each(2, [&](std::size_t) { owned.mine() = std::make_unique<int>(1); });
  CHECK(owned.merged(0, [](int sum, const auto& one) { return sum + (one ? *one : 0); }) >= 1);
}

TEST_CASE("a lock around an inner loop, and a tally's reference held across one") {
  for (const int workers : {1, 2, 5}) {
    const test::Deadline deadline("a lock around an inner loop");
    TaskCrew crew(workers);
    Locked<long> total;
    Tally<long> tally;
    crew.each(300, Grain{1}, [&](std::size_t) {
      long& mine = tally.mine();
      const long before = mine;
      total.with([&](long& sum) {
        std::atomic<long> inner{0};
        crew.each(20, Grain{1}, [&](std::size_t i) { inner += static_cast<long>(i); });
        sum += inner;
      });
      mine = before + 1;  // nobody else has written to it meanwhile
    });
    CHECK(total.with([](long& sum) { return sum; }) == 300 * 190);
    CHECK(tally.merged(0L, std::plus<>()) == 300);
  }
}
