#include <doctest/doctest.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cmath>
#include <cstdint>
#include <deque>
#include <functional>
#include <limits>
#include <memory>
#include <numeric>
#include <random>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/algorithm/scan.hpp"
#include "antcrew/algorithm/sort.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"

using namespace antcrew;

namespace {

struct Tag {
  int species;
  std::string name;
  std::size_t place;
};

bool by_species(const Tag& a, const Tag& b) {
  return a.species < b.species;
}

std::vector<Tag> tags(std::size_t n, std::size_t seed) {
  std::mt19937_64 random(seed);
  std::vector<Tag> all;
  for (std::size_t i = 0; i < n; ++i) {
    const int species = static_cast<int>(random() % 50);
    all.push_back({species, "a name too long to lie in the string itself " + std::to_string(i), i});
  }
  return all;
}

struct Large {
  std::uint32_t key;
  std::size_t place;
  double more[6];
};

template <class Crew>
void sorts_large_plain_structs(Crew& crew, std::size_t n = 20'000) {
  std::vector<Large> all(n);
  for (std::size_t i = 0; i < all.size(); ++i) all[i] = {static_cast<std::uint32_t>(i * 7919 % 300), i, {}};
  antcrew::stable_sort(crew, all, [](const Large& a, const Large& b) { return a.key < b.key; });
  bool right = true;
  for (std::size_t i = 1; i < all.size(); ++i) {
    const Large& before = all[i - 1];
    right = right && (before.key < all[i].key || (before.key == all[i].key && before.place < all[i].place));
  }
  CHECK(right);
}

template <class Crew>
void sorts_everything(int workers) {
  Crew crew(workers);
  sorts_large_plain_structs(crew);
  for (const std::size_t n : {0u, 1u, 2u, 4095u, 4096u, 4097u, 30'011u}) {
    CAPTURE(n);
    std::mt19937_64 random(n + 1);
    std::vector<std::uint32_t> few(n);
    for (std::uint32_t& x : few) x = static_cast<std::uint32_t>(random() % 1000);
    std::vector<std::uint32_t> expected = few;
    std::sort(expected.begin(), expected.end());
    antcrew::sort(crew, few);
    CHECK(few == expected);
    antcrew::sort(crew, few, std::greater<>());
    std::reverse(expected.begin(), expected.end());
    CHECK(few == expected);

    std::vector<Tag> stable = tags(n, n);
    antcrew::stable_sort(crew, stable, by_species);
    std::vector<Tag> named_order = stable;
    antcrew::sort(crew, named_order, [](const Tag& a, const Tag& b) { return a.name < b.name; });
    CHECK(std::is_sorted(named_order.begin(), named_order.end(),
                         [](const Tag& a, const Tag& b) { return a.name < b.name; }));
    bool right = true;
    for (std::size_t i = 1; i < n; ++i) {
      right = right && (stable[i - 1].species < stable[i].species ||
                        (stable[i - 1].species == stable[i].species && stable[i - 1].place < stable[i].place));
    }
    CHECK(right);
    const bool named = std::all_of(stable.begin(), stable.end(), [](const Tag& t) {
      return t.name == "a name too long to lie in the string itself " + std::to_string(t.place);
    });
    CHECK(named);
  }
}

template <class Crew>
void scans_as_the_loop(int workers) {
  Crew crew(workers);
  for (const std::size_t n : {0u, 1u, 5u, 511u, 512u, 513u, 20'011u}) {
    std::vector<std::string> letters(n);
    for (std::size_t i = 0; i < n; ++i) letters[i] = std::string(1, static_cast<char>('a' + i % 26));
    // Concatenation does not commute: order must be kept. Only lengths grow too fast for all of it to be compared.
    const auto last_three = [](const std::string& a, const std::string& b) {
      const std::string all = a + b;
      return all.size() > 3 ? all.substr(all.size() - 3) : all;
    };
    std::vector<std::string> inclusive(n);
    std::vector<std::string> exclusive(n);
    scan_inclusive(crew, letters, inclusive, last_three);
    scan_exclusive(crew, letters, exclusive, std::string("#"), last_three);
    std::string so_far = "#";
    bool right = true;
    for (std::size_t i = 0; i < n; ++i) {
      right = right && exclusive[i] == so_far;
      so_far = last_three(so_far, letters[i]);
      right = right && inclusive[i] == (i == 0 ? letters[0] : i == 1 ? letters[0] + letters[1] : so_far);
    }
    CHECK(right);
  }
}

}  // namespace

TEST_CASE("sort and stable_sort, for both crews, any worker count, lengths around the limits") {
  for (const int workers : {1, 2, 5}) sorts_everything<ThreadCrew>(workers);
  for (const int workers : {3, 8}) sorts_everything<TaskCrew>(workers);
}

namespace {

#if defined(ANTCREW_SANITIZED)
constexpr int kinds_of_many = 1;  // each number takes a sanitizer thirty times as long
#else
constexpr int kinds_of_many = 2;
#endif

// As the standard library sorts them: random ones, extreme ones, few values, digits in common, in order, in reverse.
template <class T, class Crew>
bool sorts_numbers(Crew& crew) {
  std::mt19937_64 random(11);
  bool right = true;
  for (const std::size_t n : {0u, 1u, 2047u, 2048u, 5000u, 140'001u}) {
    for (int kind = 0; kind < (n < 100'000 ? 6 : sizeof(T) >= 4 ? kinds_of_many : 0); ++kind) {
      std::vector<T> all(n);
      for (std::size_t i = 0; i < n; ++i) {
        const std::uint64_t bits = random();
        all[i] = kind == 0   ? static_cast<T>(bits)
                 : kind == 1 ? (bits % 3 == 0   ? std::numeric_limits<T>::min()
                                : bits % 3 == 1 ? std::numeric_limits<T>::max()
                                                : T{0})
                 : kind == 2 ? static_cast<T>(bits % 5)
                 : kind == 3 ? static_cast<T>(bits % 256 << (8 * (sizeof(T) - 1)))
                 : kind == 4 ? static_cast<T>(i)
                             : static_cast<T>(n - i);
      }
      std::vector<T> up = all;
      std::vector<T> down = all;
      std::vector<T> expected = all;
      antcrew::sort(crew, up);
      antcrew::sort(crew, down, std::greater<T>());
      std::sort(expected.begin(), expected.end());
      right = right && up == expected;
      std::reverse(expected.begin(), expected.end());
      right = right && down == expected;
    }
  }
  return right;
}

}  // namespace

TEST_CASE_TEMPLATE("whole numbers of any width and sign, up and down, by any number of workers", T, std::int8_t,
                   std::uint16_t, std::int32_t, std::uint32_t, std::int64_t, std::uint64_t) {
  static_assert(internal::ByDigits<T*, std::less<>>);
  static_assert(!internal::ByDigits<double*, std::less<>>);
  static_assert(!internal::ByDigits<typename std::deque<T>::iterator, std::less<>>);
  for (const int workers : {1, 7}) {
    CAPTURE(workers);
    ThreadCrew threads(workers);
    CHECK(sorts_numbers<T>(threads));
  }
}

TEST_CASE("whole numbers sorted stably, and by a crew of tasks") {
  TaskCrew crew(3);
  CHECK(sorts_numbers<long long>(crew));
  std::vector<char> letters(100'000);
  for (std::size_t i = 0; i < letters.size(); ++i) letters[i] = static_cast<char>(i * 7919 % 251);
  std::vector<char> expected = letters;
  stable_sort(crew, letters);
  std::sort(expected.begin(), expected.end());
  CHECK(letters == expected);
}

// So many that runs lie in a near cache: several levels of merging, for one worker, too.
TEST_CASE("many large elements keep their order, plain ones and those that own memory") {
  for (const int workers : {1, 2, 5}) {
    CAPTURE(workers);
    ThreadCrew crew(workers);
    sorts_large_plain_structs(crew, 150'000);
    std::vector<Tag> all = tags(30'000, 5);
    std::vector<Tag> expected = all;
    stable_sort(crew, all, by_species);
    std::stable_sort(expected.begin(), expected.end(), by_species);
    const auto same = [](const Tag& a, const Tag& b) { return a.place == b.place && a.name == b.name; };
    CHECK(std::equal(all.begin(), all.end(), expected.begin(), same));
  }
}

TEST_CASE("sort moves what cannot be copied, and takes iterators") {
  for (const int workers : {1, 3, 4}) {
    ThreadCrew crew(workers);
    std::vector<std::unique_ptr<int>> owned;
    for (int i = 0; i < 10'000; ++i) owned.push_back(std::make_unique<int>((i * 7919) % 10'000));
    antcrew::sort(crew, owned.begin(), owned.end(), [](const auto& a, const auto& b) { return *a < *b; });
    bool right = true;
    for (int i = 0; i < 10'000; ++i) right = right && *owned[static_cast<std::size_t>(i)] == i;
    CHECK(right);
  }
}

TEST_CASE("a comparison that throws comes out and leaves valid elements") {
  for (const int workers : {2, 4}) {
    TaskCrew crew(workers);
    for (const std::size_t when : {10u, 200'000u, 350'000u}) {
      std::vector<Tag> all = tags(20'000, 7);
      std::atomic<std::size_t> compared{0};
      const auto throws = [&](const Tag& a, const Tag& b) {
        if (++compared == when) throw std::runtime_error("cannot compare");
        return a.name < b.name;
      };
      try {
        antcrew::sort(crew, all, throws);
        CHECK(compared < when);
      } catch (const std::runtime_error& error) {
        CHECK(std::string(error.what()) == "cannot compare");
      }
      for (Tag& tag : all) tag.name = "again";
    }
  }
}

TEST_CASE("scan gives the loop's answer, for both crews and any worker count") {
  for (const int workers : {1, 2, 5}) {
    scans_as_the_loop<ThreadCrew>(workers);
    scans_as_the_loop<TaskCrew>(workers);
  }
}

TEST_CASE("a floating-point scan is the same to the last bit for every worker count, and may write over its input") {
  std::vector<double> depths(100'000);
  for (std::size_t i = 0; i < depths.size(); ++i) depths[i] = std::sin(static_cast<double>(i));
  const auto totals = [&](int workers) {
    ThreadCrew crew(workers);
    std::vector<double> all = depths;
    scan_inclusive(crew, all, all);
    return all;
  };
  const std::vector<double> alone = totals(1);
  CHECK(alone == totals(2));
  CHECK(alone == totals(7));
  CHECK(alone.back() == doctest::Approx(std::accumulate(depths.begin(), depths.end(), 0.0)));
}

TEST_CASE_TEMPLATE("totals are kept in what holds them: flags of one byte, narrow outputs, start values", Crew,
                   ThreadCrew, TaskCrew) {
  for (const int workers : {1, 3}) {
    Crew crew(workers);
    const std::vector<unsigned char> flags(1000, 1);
    std::vector<std::size_t> counts(1000);
    scan_inclusive(crew, flags, counts);
    CHECK(counts.back() == 1000);
    scan_inclusive(crew, flags, counts, 500);
    CHECK(counts.back() == 1500);
    CHECK(counts.front() == 501);
    scan_exclusive(crew, flags, counts, 0);
    CHECK(counts.back() == 999);
    std::vector<float> narrow(1000);
    const std::vector<double> small(1000, 1e-3);
    scan_inclusive(crew, small, narrow, 1e6);
    CHECK(static_cast<double>(narrow.back()) == doctest::Approx(1e6 + 1.0));  // summed as double, then narrowed
    std::vector<std::uint32_t> wide(1000);
    scan_inclusive(crew, flags, wide, std::plus<std::uint32_t>());
    CHECK(wide.back() == 1000);
    std::vector<std::string> words(100, "a");
    std::vector<std::string> joined(100);
    scan_inclusive(crew, words, joined, std::string("#"));
    CHECK(joined.back() == "#" + std::string(100, 'a'));
  }
}

TEST_CASE("an output that is too short is refused, untouched") {
  ThreadCrew crew(2);
  const std::vector<int> in(10, 1);
  std::vector<int> out(9, -1);
  CHECK_THROWS_WITH_AS(scan_inclusive(crew, in, out),
                       "scan_inclusive: the output has room for 9 items, and there are 10; give an output that is as "
                       "long as the input",
                       Error);
  CHECK_THROWS_AS(scan_exclusive(crew, in, out, 0), Error);
  CHECK(out == std::vector<int>(9, -1));
}

// Two regions of another thread's in turn with the calls that must not come in between.
TEST_CASE("a sort or scan on a crew that another thread has is refused, and nothing has changed") {
  for (const int workers : {1, 2}) {
    ThreadCrew crew(workers);
    std::vector<std::string> words(20'000);
    for (std::size_t i = 0; i < words.size(); ++i)
      words[i] = "a word of more than fifteen letters " + std::to_string(i);
    const std::vector<std::string> before = words;
    std::vector<std::string> joined(words.size(), "untouched");
    std::atomic<int> refused{0};
    crew.ranges(1, [&](Range) {
      std::thread([&] {
        const auto attempt = [&](const auto& call) {
          try {
            call();
          } catch (const Error& error) {
            if (error.id() == "crew.busy") ++refused;
          }
        };
        attempt([&] { antcrew::sort(crew, words); });
        attempt([&] { antcrew::stable_sort(crew, words); });
        attempt(
            [&] { scan_inclusive(crew, words, joined, [](const std::string& a, const std::string&) { return a; }); });
      }).join();
    });
    CHECK(refused == 3);
    CHECK(words == before);
    CHECK(joined.front() == "untouched");
  }
}

TEST_CASE("two threads sort on one crew: each is sorted, or refused and whole") {
  ThreadCrew crew(2);
  std::atomic<int> sorted{0};
  std::atomic<int> lost{0};
  std::vector<std::thread> threads;
  for (int t = 0; t < 2; ++t) {
    threads.emplace_back([&, t] {
      for (int again = 0; again < 50; ++again) {
        std::vector<std::string> words(6000);
        for (std::size_t i = 0; i < words.size(); ++i)
          words[i] = "word number " + std::to_string(i * 7919 % 6000 + 10'000);
        std::vector<std::string> expected = words;
        try {
          antcrew::sort(crew, words);
          std::sort(expected.begin(), expected.end());
          ++sorted;
        } catch (const Error&) {
        }
        lost += words == expected ? 0 : 1;
        if (t == 1) std::this_thread::sleep_for(std::chrono::microseconds(300));
      }
    });
  }
  for (std::thread& thread : threads) thread.join();
  CHECK(lost == 0);
  CHECK(sorted > 0);
}

TEST_CASE("the borders of folds and scans do not depend on workers or split") {
  std::vector<double> depths(50'021);
  for (std::size_t i = 0; i < depths.size(); ++i) depths[i] = std::sin(static_cast<double>(i));
  const auto sum = [](auto span) { return std::accumulate(span.begin(), span.end(), 0.0); };
  ThreadCrew one(1);
  const double alone = one.fold(depths, 0.0, sum, std::plus<>());
  for (const int workers : {2, 3, 64}) {
    ThreadCrew threads(workers);
    TaskCrew tasks(workers);
    for (const Split split : {Split::even(), Split::chunks(7), Split::tapering(2)}) {
      CHECK(threads.fold(depths, split, 0.0, sum, std::plus<>()) == alone);
    }
    CHECK(tasks.fold(depths, Grain{5}, 0.0, sum, std::plus<>()) == alone);
    CHECK(tasks.fold(depths, 0.0, sum, std::plus<>()) == alone);
  }
}
