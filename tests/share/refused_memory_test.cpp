// An allocator that refuses the k-th allocation, for every k, over the public calls of crews, algorithms and shared
// containers: what comes out is std::bad_alloc or the right answer, and nothing is lost.
#include <doctest/doctest.h>
#include <time.h>

#include <algorithm>
#include <atomic>
#include <functional>
#include <map>
#include <new>
#include <numeric>
#include <optional>
#include <stdexcept>
#include <string>
#include <vector>

#include "antcrew/algorithm/filter.hpp"
#include "antcrew/algorithm/find.hpp"
#include "antcrew/algorithm/scan.hpp"
#include "antcrew/algorithm/sort.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_graph.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/share/key_map.hpp"
#include "antcrew/share/key_set.hpp"
#include "antcrew/share/pipeline.hpp"
#include "antcrew/share/tally.hpp"
#include "support/allocations.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using namespace std::chrono_literals;
using test::Deadline;
using test::Refusing;

namespace {

enum class Came { through, refused };

// For k of 0, 1, … until nothing is refused any more: a fresh try(k), which makes its state, calls with allocations
// refused in `call` only, and looks at what is left.
struct Trial {
  std::size_t k;
  bool over = false;
  Came came = Came::through;

  // Only here is anything refused.
  void call(const std::function<void()>& work) {
    const Refusing refusing(k);
    try {
      work();
    } catch (const std::bad_alloc&) {
      came = Came::refused;
    }
    over = !refusing.refused();
  }
  bool was_refused() const { return came == Came::refused; }
};

std::size_t calls_tried = 0;
std::size_t refusals = 0;

std::size_t for_every_refusal(const std::function<void(Trial&)>& attempt, std::size_t most = 4000) {
  std::size_t k = 0;
  for (bool over = false; !over && k < most; k = test::refused_after(k)) {
    CAPTURE(k);
    Trial trial{k};
    attempt(trial);
    over = trial.over;
    if (over) {
      CHECK(trial.came == Came::through);
    } else {
      ++refusals;
    }
  }
  ++calls_tried;
  return k;
}

// Longer than what a string holds without memory of its own.
std::string name_of(std::size_t i) {
  return "a station with a long name, number " + std::to_string(i * 7919 % 100'003);
}

std::vector<std::string> names(std::size_t n) {
  std::vector<std::string> all;
  for (std::size_t i = 0; i < n; ++i) all.push_back(name_of(i));
  return all;
}

}  // namespace

TEST_CASE_TEMPLATE("refused memory: sorting loses nothing and moves nothing, or succeeds", Crew, ThreadCrew, TaskCrew) {
  const Deadline deadline("sorting", 150s);
  const std::vector<std::string> before = names(5000);
  std::vector<std::string> sorted = before;
  std::sort(sorted.begin(), sorted.end());
  for (const int workers : {2, 3}) {
    Crew crew(workers);
    crew.each(64, [](std::size_t) {});
    for_every_refusal([&](Trial& trial) {
      std::vector<int> numbers(140'000);
      for (std::size_t i = 0; i < numbers.size(); ++i) numbers[i] = static_cast<int>(i * 7919 % 100'003);
      const std::vector<int> as_they_were = numbers;
      trial.call([&] { sort(crew, numbers); });
      CHECK((trial.was_refused() ? numbers == as_they_were : std::is_sorted(numbers.begin(), numbers.end())));
    });
    for (const bool stable : {false, true}) {
      for_every_refusal([&](Trial& trial) {
        std::vector<std::string> all = before;
        trial.call([&] { stable ? stable_sort(crew, all) : sort(crew, all); });
        CHECK(all == (trial.was_refused() ? before : sorted));
      });
    }
  }
}

TEST_CASE("refused memory: a set loses no key while it grows, makes room, and is taken") {
  const Deadline deadline("sets", 150s);
  ThreadCrew crew(2);
  for (const bool text : {false, true}) {
    CAPTURE(text);
    const auto run = [&](auto make_key, auto& set, Trial& trial) {
      std::vector<bool> in(3000, false);
      std::size_t at = 0;
      trial.call([&] {
        for (; at < in.size(); ++at) {
          set.insert(make_key(at));
          in[at] = true;
        }
      });
      const auto all_there = [&] {
        for (std::size_t i = 0; i < in.size(); ++i) {
          if (set.contains(make_key(i)) != in[i]) return false;
        }
        return set.size() == static_cast<std::size_t>(std::count(in.begin(), in.end(), true));
      };
      CHECK(all_there());
      set.reserve(20'000);
      CHECK(all_there());
      for (std::size_t i = 0; i < in.size(); ++i) set.insert(make_key(i));
      in.assign(in.size(), true);
      CHECK(all_there());
    };
    for_every_refusal(
        [&](Trial& trial) {
          if (text) {
            KeySet<std::string> set;
            run([](std::size_t i) { return name_of(i); }, set, trial);
          } else {
            KeySet<std::uint64_t> set;
            run([](std::size_t i) { return std::uint64_t{i}; }, set, trial);
          }
        },
        text ? 300 : 4000);
  }
  for_every_refusal([&](Trial& trial) {
    KeySet<std::string> set;
    for (std::size_t i = 0; i < 5000; ++i) set.insert(name_of(i));
    std::vector<std::string> taken;
    trial.call([&] { taken = set.take_sorted(crew); });
    CHECK(set.size() == (trial.was_refused() ? 5000 : 0));
    CHECK(set.contains(name_of(17)) == trial.was_refused());
    if (!trial.was_refused()) CHECK(std::is_sorted(taken.begin(), taken.end()));
    set.insert("another");
    CHECK(set.contains("another"));
  });
  // Room that was refused is no room, and nothing else.
  for_every_refusal([&](Trial& trial) {
    KeySet<std::uint64_t> set;
    for (std::uint64_t i = 0; i < 1000; ++i) set.insert(i);
    trial.call([&] { set.reserve(100'000); });
    for (std::uint64_t i = 0; i < 3000; ++i) set.insert(i);
    CHECK(set.size() == 3000);
    CHECK(set.take_sorted().size() == 3000);
    CHECK(set.size() == 0);
  });
}

TEST_CASE("refused memory: a map's sums are neither lost nor counted twice") {
  const Deadline deadline("maps", 150s);
  for (const int way : {0, 1, 2}) {
    CAPTURE(way);
    for_every_refusal(
        [&](Trial& trial) {
          KeyMap<std::uint32_t, long> map;
          std::map<std::uint32_t, long> expected;
          const auto add = [&](std::uint32_t key) {
            map.add(key, 1);
            ++expected[key];
          };
          const auto fill = [&] {
            for (std::uint32_t i = 0; i < 3000; ++i) {
              map.add(i % 700 + 1, 1);
            }
          };
          if (way == 0) {
            std::size_t done = 0;
            trial.call([&] {
              for (; done < 3000; ++done) map.add(static_cast<std::uint32_t>(done % 700 + 1), 1);
            });
            for (std::size_t i = 0; i < done; ++i) ++expected[static_cast<std::uint32_t>(i % 700 + 1)];
          } else {
            fill();
            for (std::uint32_t i = 0; i < 3000; ++i) ++expected[i % 700 + 1];
            std::size_t size = 0;
            if (way == 1) trial.call([&] { size = map.size(); });
            std::vector<std::pair<std::uint32_t, long>> taken;
            if (way == 2) trial.call([&] { taken = map.take_sorted(); });
            if (way == 2 && !trial.was_refused()) expected.clear();
            add(9999);
          }
          long sum = 0;
          bool same = true;
          for (const auto& [key, count] : expected) same = same && map.find(key).value_or(0) == count;
          CHECK(same);
          map.walk([&](const std::uint32_t&, const long& count) { sum += count; });
          CHECK(sum == std::accumulate(expected.begin(), expected.end(), 0L,
                                       [](long all, const auto& one) { return all + one.second; }));
        },
        400);
  }
}

TEST_CASE_TEMPLATE("refused memory: loops and what is built on them", Crew, ThreadCrew, TaskCrew) {
  const Deadline deadline("loops", 150s);
  for (const int workers : {1, 3}) {
    Crew crew(workers);
    std::vector<int> in(3000);
    std::iota(in.begin(), in.end(), 0);
    const auto check = [&](const std::function<void(bool&)>& call) {
      for_every_refusal([&](Trial& trial) {
        bool right = false;
        trial.call([&] { call(right); });
        if (!trial.was_refused()) CHECK(right);
        std::atomic<int> done{0};
        crew.each(100, [&](std::size_t) { ++done; });
        CHECK(done == 100);
      });
    };
    check([&](bool& right) {
      std::atomic<long> sum{0};
      crew.each(1000, Crew::small_pieces(1), [&](std::size_t i) { sum += static_cast<long>(i); });
      right = sum == 499'500;
    });
    check(
        [&](bool& right) { right = crew.collect(500, [](std::size_t i) { return name_of(i); })[499] == name_of(499); });
    check([&](bool& right) {
      right = crew.fold(
                  in.size(), 0L,
                  [&](Range r) {
                    return std::accumulate(in.begin() + static_cast<long>(r.first),
                                           in.begin() + static_cast<long>(r.last), 0L);
                  },
                  std::plus<>()) == 4'498'500;
    });
    check([&](bool& right) {
      std::vector<long> out(in.size());
      scan_inclusive(crew, in, out);
      right = out.back() == 4'498'500;
    });
    check([&](bool& right) { right = filter(crew, in, [](int i) { return i % 3 == 0; }).size() == 1000; });
    check([&](bool& right) { right = find(crew, in, [](int i) { return i == 2999; }) == 2999; });
    check([&](bool& right) {
      std::atomic<long> sum{0};
      crew.each_with([] { return std::vector<int>(100); }, 300,
                     [&](std::size_t i, std::vector<int>& room) { sum += static_cast<long>(i + room.size()); });
      right = sum == 300 * 100 + 299 * 150;
    });
    check([&](bool& right) {
      Tally<long> tally;
      crew.each(400, Crew::small_pieces(1), [&](std::size_t i) { tally.mine() += static_cast<long>(i); });
      right = tally.merged(0L, std::plus<>()) == 79'800;
    });
    if constexpr (std::is_same_v<Crew, TaskCrew>) {
      check([&](bool& right) {
        int next = 0;
        long sum = 0;
        pipeline([&]() -> std::optional<std::string> {
          return next < 200 ? std::optional(name_of(static_cast<std::size_t>(next++))) : std::nullopt;
        })
            .many("measure", [](std::string name) { return name.size(); })
            .as_read("sum up", [&](std::size_t size) { sum += static_cast<long>(size); })
            .run(crew);
        right = next == 200 && sum > 200 * 35;
      });
    }
  }
}

TEST_CASE("refused memory: what a caller has begun alone is not done again") {
  for (std::size_t k = 0; k < 8; ++k) {
    CAPTURE(k);
    TaskCrew crew(2);  // new, so that its first loop needs memory
    std::vector<std::atomic<int>> times(200);
    try {
      const Refusing refusing(k);
      crew.fold(
          times.size(), 0,
          [&](Range range) {
            for (const std::size_t i : range) ++times[i];
            const timespec a_while{0, 200'000};
            ::nanosleep(&a_while, nullptr);
            return 0;
          },
          std::plus<>());
    } catch (const std::bad_alloc&) {
      continue;
    }
    for (const std::atomic<int>& time : times) CHECK(time == 1);
  }
}

TEST_CASE("refused memory: forks, groups, graphs and work begun for later") {
  const Deadline deadline("tasks", 150s);
  for (const int workers : {1, 2, 4}) {
    CAPTURE(workers);
    for_every_refusal([&](Trial& trial) {
      TaskCrew crew(workers);
      std::atomic<int> ran{0};
      TaskGroup group(crew);
      int begun = 0;
      trial.call([&] {
        for (int k = 0; k < 20; ++k) {
          group.begin([&ran, k] {
            ++ran;
            if (k % 5 == 0) throw std::runtime_error("one of four");
          });
          ++begun;
        }
        try {
          group.wait();
        } catch (const std::runtime_error&) {
        }
      });
      try {
        group.wait();
      } catch (const std::runtime_error&) {
      }
      CHECK(ran == begun);
      if (!trial.was_refused()) CHECK(begun == 20);
    });
    for_every_refusal([&](Trial& trial) {
      TaskCrew crew(workers);
      std::atomic<int> ran{0};
      int begun = 0;
      trial.call([&] {
        for (int k = 0; k < 5; ++k) {
          Later<int> later = crew.begin([&ran, k] { return ++ran, k; });
          ++begun;
          if (later.get() != k) ran = -100;
        }
        for (int k = 0; k < 5; ++k) {
          crew.begin([&ran] { ++ran; });
          ++begun;
        }
        const std::function<int(int)> fib = [&](int n) -> int {
          if (n < 2) return n;
          const auto [a, b] = crew.both([&] { return fib(n - 1); }, [&] { return fib(n - 2); });
          return a + b;
        };
        if (fib(10) != 55) ran = -100;
        crew.each(8, Grain{1}, [&](std::size_t) { crew.each(8, Grain{1}, [](std::size_t) {}); });
      });
      static_cast<void>(crew.settle());
      CHECK(ran == begun);
    });
    for_every_refusal([&](Trial& trial) {
      TaskCrew crew(workers);
      TaskGraph graph;
      std::atomic<int> ran{0};
      std::size_t made = 0;
      trial.call([&] {
        const auto first = graph.step("the first one of all of them", [&] { return ++ran; });
        ++made;
        for (int k = 0; k < 6; ++k) {
          graph.step("one of those that come after it, " + std::to_string(k), [&] { ++ran; }, {first});
          ++made;
        }
        graph.run(crew);
        graph.run(crew);
      });
      CHECK(graph.size() >= made);
      if (!trial.was_refused()) CHECK(ran == 14);
      ran = 0;
      graph.run(crew);
      CHECK(ran == static_cast<int>(graph.size()));
    });
  }
  MESSAGE(calls_tried, " calls, ", refusals, " allocations refused");
}
