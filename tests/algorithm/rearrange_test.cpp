// Items put in another order, and two sorted ranges: against the standard library.
#include <doctest/doctest.h>

#include <algorithm>
#include <deque>
#include <memory>
#include <random>
#include <stdexcept>
#include <string>
#include <vector>

#include "antcrew/algorithm/merge.hpp"
#include "antcrew/algorithm/rearrange.hpp"
#include "tests/algorithm/sharing.hpp"

using namespace antcrew;
using test::check_shared_out;
using test::sizes;
using test::with_crews;

namespace {

// Which are equal by their first, and told apart by their second.
using Pair = std::pair<int, std::size_t>;
bool by_first(const Pair& a, const Pair& b) {
  return a.first < b.first;
}
std::vector<Pair> some_pairs(std::size_t n, int different, unsigned seed) {
  std::mt19937 random(seed);
  std::vector<Pair> all(n);
  for (std::size_t i = 0; i < n; ++i) all[i] = {static_cast<int>(random() % static_cast<unsigned>(different)), i};
  return all;
}

template <class Items>
bool alike(const Items& ours, const std::vector<Pair>& expected) {
  return std::equal(ours.begin(), ours.end(), expected.begin(), expected.end());
}

}  // namespace

TEST_CASE("partition keeps both sides in order, unique the first of equal neighbours") {
  with_crews([](auto& crew) {
    for (const std::size_t n : sizes) {
      CAPTURE(n);
      for (const int limit : {0, 3, 9}) {
        std::vector<Pair> ours = some_pairs(n, 9, 5);
        std::vector<Pair> expected = ours;
        const auto passes = [=](const Pair& p) { return p.first < limit; };
        const auto border = std::stable_partition(expected.begin(), expected.end(), passes);
        CHECK(partition(crew, ours, passes) == static_cast<std::size_t>(border - expected.begin()));
        CHECK(alike(ours, expected));
      }
      std::vector<Pair> ours = some_pairs(n, 2, 6);
      std::vector<Pair> expected = ours;
      const auto same = [](const Pair& a, const Pair& b) { return a.first == b.first; };
      expected.erase(std::unique(expected.begin(), expected.end(), same), expected.end());
      ours.resize(unique(crew, ours, same));
      CHECK(alike(ours, expected));
    }
    std::deque<std::unique_ptr<int>> owned;  // not in one stretch, and only to be moved
    for (int k = 0; k < 500; ++k) owned.push_back(std::make_unique<int>(k));
    CHECK(partition(crew, owned, [](const auto& p) { return *p % 2 == 1; }) == 250);
    CHECK(*owned[0] == 1);
    CHECK(*owned[250] == 0);
  });
}

TEST_CASE("the nth item is where sorting would put it, and the smallest come first, sorted") {
  with_crews([](auto& crew) {
    for (const std::size_t n : sizes) {
      for (const int different : {1, 3, 1'000'000}) {
        const std::vector<Pair> all = some_pairs(n, different, 8);
        std::vector<Pair> sorted = all;
        std::sort(sorted.begin(), sorted.end());
        for (const std::size_t nth : {std::size_t{0}, n / 3, n / 2, n == 0 ? 0 : n - 1, n + 5}) {
          CAPTURE(n);
          CAPTURE(different);
          CAPTURE(nth);
          std::vector<Pair> ours = all;
          nth_element(crew, ours, nth, by_first);
          if (nth < n) {
            const auto at = ours.begin() + static_cast<std::ptrdiff_t>(nth);
            CHECK(at->first == sorted[nth].first);
            CHECK(std::none_of(ours.begin(), at, [&](const Pair& p) { return p.first > at->first; }));
            CHECK(std::none_of(at, ours.end(), [&](const Pair& p) { return p.first < at->first; }));
          }
          std::sort(ours.begin(), ours.end());
          CHECK(ours == sorted);
          ours = all;
          partial_sort(crew, ours, nth);
          CHECK(std::equal(ours.begin(), ours.begin() + static_cast<std::ptrdiff_t>(std::min(n, nth)), sorted.begin()));
          std::sort(ours.begin(), ours.end());
          CHECK(ours == sorted);
        }
      }
    }
  });
}

TEST_CASE("reverse and rotate") {
  with_crews([](auto& crew) {
    for (const std::size_t n : sizes) {
      CAPTURE(n);
      std::vector<Pair> ours = some_pairs(n, 9, 5);
      std::vector<Pair> expected = ours;
      std::reverse(expected.begin(), expected.end());
      reverse(crew, ours);
      CHECK(alike(ours, expected));
      for (const std::size_t by : {std::size_t{0}, n / 3, n}) {
        const auto first =
            std::rotate(expected.begin(), expected.begin() + static_cast<std::ptrdiff_t>(by), expected.end());
        CHECK(rotate(crew, ours, by) == static_cast<std::size_t>(first - expected.begin()));
        CHECK(alike(ours, expected));
      }
    }
  });
}

TEST_CASE("two sorted ranges merge as the sequential algorithm does it, equal items in order") {
  with_crews([](auto& crew) {
    for (const std::size_t n : sizes) {
      for (const std::size_t m : {std::size_t{0}, std::size_t{7}, n, 2 * n + 40}) {
        for (const int different : {3, 100'000}) {
          CAPTURE(n);
          CAPTURE(m);
          CAPTURE(different);
          std::vector<Pair> a = some_pairs(n, different, 1);
          std::vector<Pair> b = some_pairs(m, different, 2);
          std::stable_sort(a.begin(), a.end(), by_first);
          std::stable_sort(b.begin(), b.end(), by_first);
          const auto expected_of = [&](auto algorithm) {
            std::vector<Pair> expected;
            algorithm(a.begin(), a.end(), b.begin(), b.end(), std::back_inserter(expected), &by_first);
            return expected;
          };
          CHECK(alike(merge(crew, a, b, by_first), expected_of([](auto... all) { std::merge(all...); })));
          CHECK(alike(set_union(crew, a, b, by_first), expected_of([](auto... all) { std::set_union(all...); })));
          CHECK(alike(set_intersection(crew, a, b, by_first),
                      expected_of([](auto... all) { std::set_intersection(all...); })));
          CHECK(alike(set_difference(crew, a, b, by_first),
                      expected_of([](auto... all) { std::set_difference(all...); })));
          CHECK(alike(set_symmetric_difference(crew, a, b, by_first),
                      expected_of([](auto... all) { std::set_symmetric_difference(all...); })));
        }
      }
    }
  });
}

TEST_CASE("an exception of a test or comparison comes out, and nothing is lost") {
  ThreadCrew crew(4);
  const std::vector<Pair> all = some_pairs(5000, 1000, 4);
  std::vector<Pair> ours = all;
  CHECK_THROWS_AS(partition(crew, ours,
                            [](const Pair& p) {
                              if (p.second == 4000) throw std::runtime_error("reef");
                              return p.first < 500;
                            }),
                  std::runtime_error);
  CHECK(ours == all);
  int left = 3000;
  CHECK_THROWS_AS(nth_element(crew, ours, 2500,
                              [&](const Pair& a, const Pair& b) {
                                if (std::atomic_ref(left)-- == 0) throw std::runtime_error("reef");
                                return a < b;
                              }),
                  std::runtime_error);
  std::sort(ours.begin(), ours.end(), [](const Pair& a, const Pair& b) { return a.second < b.second; });
  CHECK(ours == all);
  const auto sorted_strings = [](int n) {
    std::vector<std::string> strings;
    for (int k = 0; k < n; ++k) strings.push_back("a longer text than fits " + std::to_string(100'000 + k));
    return strings;
  };
  const std::vector<std::string> a = sorted_strings(800);
  left = 900;
  CHECK_THROWS_AS(merge(crew, a, a,
                        [&](const std::string& x, const std::string& y) {
                          if (std::atomic_ref(left)-- == 0) throw std::runtime_error("reef");
                          return x < y;
                        }),
                  std::runtime_error);
}

TEST_CASE("tests and comparisons that wait are shared out") {
  const std::vector<Pair> all = some_pairs(64, 50, 5);
  check_shared_out("partition", [&](auto& crew, auto visit) {
    std::vector<Pair> ours = all;
    return partition(crew, ours, [&](const Pair& p) { return visit(p.second), p.first < 25; });
  });
  check_shared_out("unique", [&](auto& crew, auto visit) {
    std::vector<Pair> ours = all;
    return unique(crew, ours, [&](const Pair& a, const Pair& b) { return visit(b.second), a.first == b.first; });
  });
  const std::vector<Pair> more = some_pairs(1000, 500, 5);
  check_shared_out("nth_element", [&](auto& crew, auto visit) {
    std::vector<Pair> ours = more;
    nth_element(crew, ours, 500, [&](const Pair& a, const Pair& b) { return visit(a.second), a.first < b.first; });
  });
  std::vector<Pair> sorted = some_pairs(200, 1000, 5);
  std::sort(sorted.begin(), sorted.end());
  check_shared_out("set_union", [&](auto& crew, auto visit) {
    return set_union(crew, sorted, sorted, [&](const Pair& a, const Pair& b) { return visit(a.second), a < b; }).size();
  });
}
