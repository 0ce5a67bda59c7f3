// Folds, scans and filters of little work: done by the caller unless it is worth waking somebody.
#include <doctest/doctest.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstdint>
#include <functional>
#include <mutex>
#include <numeric>
#include <set>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/algorithm/filter.hpp"
#include "antcrew/algorithm/scan.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/crew/worker.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using namespace std::chrono_literals;

namespace {

template <class Crew, class Fn>
long sum_of(Crew& crew, std::size_t n, Fn&& fn) {
  return crew.fold(
      n, 0L,
      [&](Range range) {
        long sum = 0;
        for (const std::size_t i : range) sum += fn(i);
        return sum;
      },
      std::plus<>());
}

}  // namespace

TEST_CASE_TEMPLATE("a fold of little work is done by the caller, as worker 0", Crew, ThreadCrew, TaskCrew) {
  Crew crew(4);
  const auto me = std::this_thread::get_id();
  int alone = 0;
  for (int time = 0; time < 50; ++time) {
    std::atomic<int> by_others{0}, not_first{0};
    const long sum = sum_of(crew, 1000, [&](std::size_t i) {
      if (std::this_thread::get_id() != me) {
        ++by_others;
      } else if (this_worker() != 0) {
        ++not_first;
      }
      return static_cast<long>(i);
    });
    CHECK(sum == 499'500);
    CHECK(not_first == 0);
    if (by_others == 0) ++alone;
  }
#if !defined(ANTCREW_SANITIZED)  // to which no work is little
  CHECK(alone > 0);              // not each time: the machine may take the caller's processor away for a while
#endif
}

TEST_CASE_TEMPLATE("work that waits is shared out, all of few items at once", Crew, ThreadCrew, TaskCrew) {
  for (const std::size_t n : {std::size_t{8}, std::size_t{64}, std::size_t{130}}) {
    CAPTURE(n);
    Crew crew(8);
    test::AtOnce inside;
    // Longer than it may take to wake all of few.
    const auto time = n == 8 ? 200ms : 20ms;
    CHECK(sum_of(crew, n, [&](std::size_t) { return inside.stay(time), 1L; }) == static_cast<long>(n));
    CHECK(inside.most() == 8);
  }
  // Little at first, then much: the caller does not keep it.
  Crew crew(8);
  test::AtOnce inside;
  sum_of(crew, 1000, [&](std::size_t i) {
    if (i >= 200) inside.stay(500us);
    return 1L;
  });
  CHECK(inside.most() == 8);
}

TEST_CASE_TEMPLATE("the caller's first ranges: exceptions come out, stops are seen, calls inside are part of it", Crew,
                   ThreadCrew, TaskCrew) {
  Crew crew(3);
  for (const std::size_t at : {0u, 5u, 70u, 999u}) {
    CAPTURE(at);
    const auto throws = [&](std::size_t i) {
      if (i == at) throw std::runtime_error("dry");
      return 1L;
    };
    CHECK_THROWS_WITH_AS(sum_of(crew, 1000, throws), "dry", std::runtime_error);
    CHECK(sum_of(crew, 1000, [](std::size_t) { return 1L; }) == 1000);
  }
  std::atomic<int> done{0};
  std::stop_source source;
  const auto count = [&](Range range) {
    done += static_cast<int>(range.size());
    source.request_stop();
    return 1;
  };
  try {
    crew.fold(1000, 0, count, std::plus<>(), source.get_token());
    FAIL("half a sum was returned");
  } catch (const Error& error) {
    CHECK(error.id() == "crew.stopped");
  }
  CHECK(done < 200);
  CHECK(sum_of(crew, 200, [&](std::size_t) { return sum_of(crew, 200, [](std::size_t) { return 1L; }); }) == 40'000);
}

TEST_CASE("while the caller does its first ranges, the crew is busy for others") {
  ThreadCrew crew(2);
  std::string refused;
  sum_of(crew, 1000, [&](std::size_t i) {
    if (i == 0) {
      std::thread([&] {
        try {
          crew.ranges(2, [](Range) {});
        } catch (const Error& error) {
          refused = error.id();
        }
      }).join();
    }
    return 1L;
  });
  CHECK(refused == "crew.busy");
}

TEST_CASE_TEMPLATE("answers do not depend on who did what, at lengths around all borders", Crew, ThreadCrew, TaskCrew) {
  std::vector<double> depths(9000);
  for (std::size_t i = 0; i < depths.size(); ++i) depths[i] = 1.0 / static_cast<double>(i + 3);
  Crew one(1);
  for (const int workers : {2, 3, 64}) {
    Crew crew(workers);
    for (const std::size_t n :
         {0u, 1u, 63u, 64u, 65u, 127u, 128u, 129u, 1000u, 1023u, 1024u, 1025u, 4095u, 4096u, 4097u, 8191u, 9000u}) {
      if (workers > 3 && n != 129 && n != 1000 && n != 4097) continue;  // waking many takes long under a sanitizer
      CAPTURE(workers);
      CAPTURE(n);
      const std::vector<double> some(depths.begin(), depths.begin() + static_cast<std::ptrdiff_t>(n));
      const auto sum = [&](Crew& by) { return sum_of(by, n, [&](std::size_t i) { return long(some[i] * 1e9); }); };
      CHECK(sum(crew) == sum(one));
      const auto fold = [&](Crew& by) {
        return by.fold(
            some, 0.0, [](std::span<const double> part) { return std::accumulate(part.begin(), part.end(), 0.0); },
            std::plus<>());
      };
      CHECK(fold(crew) == fold(one));
      std::vector<double> totals(n), same(n);
      scan_inclusive(crew, some, totals);
      scan_inclusive(one, some, same);
      CHECK(totals == same);
      const auto shallow = [](double depth) { return depth < 0.01; };
      const auto kept = filter(crew, some, shallow);
      CHECK(std::vector<double>(kept.begin(), kept.end()).size() ==
            static_cast<std::size_t>(std::count_if(some.begin(), some.end(), shallow)));
    }
  }
}

TEST_CASE_TEMPLATE("a filter that turns out dear on the way is shared from there on, and gives the loop's answer", Crew,
                   ThreadCrew, TaskCrew) {
  Crew crew(3);
  for (const std::size_t dear_from : {0u, 100u, 500u, 990u, 1000u}) {
    CAPTURE(dear_from);
    std::vector<std::string> words(1000);
    for (std::size_t i = 0; i < words.size(); ++i)
      words[i] = "a tag that is not short, " + std::to_string(i * 7 % 1000);
    std::vector<std::atomic<int>> tested(words.size());
    std::mutex lock;
    std::set<std::thread::id> who;
    const auto test = [&](std::size_t i) {
      ++tested[i];
      if (i >= dear_from) {
        std::this_thread::sleep_for(std::chrono::microseconds(200));
        const std::lock_guard<std::mutex> held(lock);
        who.insert(std::this_thread::get_id());
      }
      return i % 3 != 0;
    };
    const auto place_of = [&](const std::string& word) { return static_cast<std::size_t>(&word - words.data()); };
    const Column<std::string> kept = filter(crew, words, [&](const std::string& word) { return test(place_of(word)); });
    std::vector<std::string> expected;
    for (std::size_t i = 0; i < words.size(); ++i) {
      if (i % 3 != 0) expected.push_back(words[i]);
    }
    CHECK(std::equal(kept.begin(), kept.end(), expected.begin(), expected.end()));
    CHECK(std::all_of(tested.begin(), tested.end(), [](const auto& times) { return times == 1; }));
    if (dear_from <= 500) CHECK(who.size() > 1);
    const Column<std::size_t> places = filter(crew, words.size(), [&](std::size_t i) {
      if (i >= dear_from) std::this_thread::sleep_for(std::chrono::microseconds(50));
      return i % 3 != 0;
    });
    CHECK(places.size() == expected.size());
    CHECK(std::is_sorted(places.begin(), places.end()));
  }
}

TEST_CASE_TEMPLATE("whatever item a test throws at, the exception comes out and the items stay", Crew, ThreadCrew,
                   TaskCrew) {
  Crew crew(2);
  std::vector<std::string> words(300, "a tag that is too long to lie in the string itself");
  for (const std::size_t bad : {0u, 1u, 17u, 150u, 299u}) {
    CAPTURE(bad);
    const auto test = [&](const std::string& word) {
      if (&word == &words[bad]) throw std::runtime_error("unreadable");
      return true;
    };
    CHECK_THROWS_AS(filter(crew, words, test), std::runtime_error);
    CHECK(filter(crew, words, [](const std::string&) { return true; }).size() == words.size());
  }
}

TEST_CASE("sums of whole numbers are the loop's, in any width and of any sign, however few do them") {
  ThreadCrew crew(2);
  std::vector<std::int8_t> steps(2000);
  for (std::size_t i = 0; i < steps.size(); ++i) steps[i] = static_cast<std::int8_t>(i % 3 == 0 ? -100 : 90);
  std::vector<std::int64_t> total(steps.size()), before(steps.size());
  scan_inclusive(crew, steps, total);
  scan_exclusive(crew, steps, before, std::int64_t{5});
  std::int64_t sum = 0;
  for (std::size_t i = 0; i < steps.size(); ++i) {
    REQUIRE(before[i] == sum + 5);
    sum += steps[i];
    REQUIRE(total[i] == sum);
  }
  std::vector<std::uint8_t> small(500, 1), wrapped(500);
  scan_inclusive(crew, small, wrapped, std::plus<std::uint8_t>());
  CHECK(wrapped[299] == static_cast<std::uint8_t>(300));
}
