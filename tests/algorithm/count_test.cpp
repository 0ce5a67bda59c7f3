// Counting, summing up, extremes, groups: against the standard library, and how the work is shared.
#include <doctest/doctest.h>

#include <algorithm>
#include <atomic>
#include <map>
#include <numeric>
#include <random>
#include <string>
#include <vector>

#include "antcrew/algorithm/count.hpp"
#include "antcrew/algorithm/extremes.hpp"
#include "antcrew/algorithm/groups.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/log/lane_book.hpp"
#include "tests/algorithm/sharing.hpp"

using namespace antcrew;
using internal::LaneBook;
using test::check_shared_out;
using test::sizes;
using test::with_crews;

namespace {

std::vector<int> some_numbers(std::size_t n, int different, unsigned seed) {
  std::mt19937 random(seed);
  std::vector<int> all(n);
  for (int& x : all) x = static_cast<int>(random() % static_cast<unsigned>(different));
  return all;
}

}  // namespace

TEST_CASE("counts, tests of all and sums are those of the sequential algorithms, for any crew") {
  with_crews([](auto& crew) {
    for (const std::size_t n : sizes) {
      CAPTURE(n);
      const std::vector<int> all = some_numbers(n, 50, 7);
      const auto small = [](int x) { return x < 20; };
      CHECK(count_if(crew, all, small) == static_cast<std::size_t>(std::count_if(all.begin(), all.end(), small)));
      CHECK(count_if(crew, n, [&](std::size_t i) { return all[i] == 3; }) ==
            static_cast<std::size_t>(std::count(all.begin(), all.end(), 3)));
      for (const int limit : {0, 49, 50}) {
        const auto below = [=](int x) { return x < limit; };
        CHECK(all_of(crew, all, below) == std::all_of(all.begin(), all.end(), below));
        CHECK(none_of(crew, all, below) == std::none_of(all.begin(), all.end(), below));
      }
      const auto twice = [](int x) { return 2L * x; };
      CHECK(transform_reduce(crew, all, 5L, std::plus<>(), twice) ==
            std::transform_reduce(all.begin(), all.end(), 5L, std::plus<>(), twice));
      std::vector<std::size_t> counts(50);
      for (const int x : all) ++counts[static_cast<std::size_t>(x)];
      CHECK(histogram(crew, all, 50, [](int x) { return x; }) == counts);
      CHECK(histogram(crew, all, 10'000, [](int x) { return x; }).at(7) == counts[7]);
    }
  });
}

TEST_CASE("sums of floating-point numbers are the same with every worker count, and joined in order") {
  std::vector<double> all(10'007);
  for (std::size_t i = 0; i < all.size(); ++i) all[i] = 1.0 / static_cast<double>(i + 1);
  ThreadCrew one(1);
  const double alone = transform_reduce(one, all, 0.0, std::plus<>(), [](double x) { return x * x; });
  with_crews([&](auto& crew) {
    CHECK(transform_reduce(crew, all, 0.0, std::plus<>(), [](double x) { return x * x; }) == alone);
    std::string letters = transform_reduce(crew, 100, std::string("<"), std::plus<>(), [](std::size_t i) {
      return std::string(1, static_cast<char>('a' + i % 26));
    });
    CHECK(letters.substr(0, 6) == "<abcde");
    CHECK(letters.size() == 101);
  });
}

TEST_CASE("of equal extremes those are given that the sequential algorithms give") {
  with_crews([](auto& crew) {
    for (const std::size_t n : sizes) {
      CAPTURE(n);
      const std::vector<int> all = some_numbers(n, 5, 11);
      const auto index = [&](auto at) { return static_cast<std::size_t>(at - all.begin()); };
      const auto least = min_element(crew, all);
      const auto most = max_element(crew, all);
      const auto both = minmax_element(crew, all);
      if (n == 0) {
        CHECK_FALSE((least || most || both));
        continue;
      }
      CHECK(*least == index(std::min_element(all.begin(), all.end())));
      CHECK(*most == index(std::max_element(all.begin(), all.end())));
      const auto [a, b] = std::minmax_element(all.begin(), all.end());
      CHECK(*both == Extremes{index(a), index(b)});
      CHECK(*min_element(crew, all, std::greater<>()) == *most);
    }
  });
}

TEST_CASE("groups have their keys ascending and their indices in order; differences are of neighbours") {
  with_crews([](auto& crew) {
    for (const std::size_t n : sizes) {
      CAPTURE(n);
      const std::vector<int> all = some_numbers(n, 13, 3);
      std::map<std::string, std::vector<std::size_t>> expected;
      for (std::size_t i = 0; i < n; ++i) expected[std::to_string(all[i])].push_back(i);
      const auto groups = group_by(crew, all, [](int x) { return std::to_string(x); });
      REQUIRE(groups.size() == expected.size());
      std::size_t k = 0;
      for (const auto& [key, indices] : expected) {
        CHECK(groups[k].key == key);
        CHECK(groups[k++].indices == indices);
      }
      std::vector<int> differences(n);
      std::adjacent_difference(all.begin(), all.end(), differences.begin());
      const auto ours = adjacent_difference(crew, all);
      CHECK(std::equal(ours.begin(), ours.end(), differences.begin(), differences.end()));
    }
  });
}

TEST_CASE("a bin that is not there is refused by name, and an exception of a function comes out") {
  ThreadCrew crew(3);
  const std::vector<int> all = some_numbers(1000, 50, 1);
  for (const int wrong : {-1, 50}) {
    try {
      histogram(crew, all, 50, [&](int x) { return x == all[500] ? wrong : x; });
      FAIL("it was not refused");
    } catch (const Error& error) {
      CHECK(error.id() == "algorithm.bin");
    }
  }
  CHECK_THROWS_AS(count_if(crew, all,
                           [&](const int& x) -> bool {
                             if (&x == &all[777]) throw std::string("reef");
                             return true;
                           }),
                  std::string);
  CHECK(count_if(crew, all, [](int) { return true; }) == 1000);  // and the crew is free again
}

TEST_CASE("tests that wait are shared out evenly, and four workers are at least three times as quick as one") {
  const std::vector<int> all = some_numbers(64, 50, 5);
  check_shared_out("count_if", [&](auto& crew, auto visit) {
    return count_if(crew, all.size(), [&](std::size_t i) { return visit(i), all[i] < 25; });
  });
  check_shared_out("none_of", [&](auto& crew, auto visit) {
    return none_of(crew, all.size(), [&](std::size_t i) { return visit(i), false; });
  });
  check_shared_out("transform_reduce", [&](auto& crew, auto visit) {
    return transform_reduce(crew, all.size(), 0, std::plus<>(), [&](std::size_t i) { return visit(i), all[i]; });
  });
  check_shared_out("histogram", [&](auto& crew, auto visit) {
    return histogram(crew, all.size(), 50, [&](std::size_t i) { return visit(i), all[i]; });
  });
  check_shared_out("group_by", [&](auto& crew, auto visit) {
    return group_by(crew, all.size(), [&](std::size_t i) { return visit(i), all[i]; }).size();
  });
  // Ranges of several items, so that there is something to compare in each.
  const std::vector<int> more = some_numbers(192, 50, 5);
  check_shared_out("min_element", [&](auto& crew, auto visit) {
    return min_element(crew, more, [&](const int& a, const int& b) {
      visit(static_cast<std::size_t>(&a - more.data()));
      return a < b;
    });
  });
}

TEST_CASE("a log of an algorithm names the place of its caller") {
  ThreadCrew crew(2);
  const std::vector<int> all = some_numbers(5000, 50, 5);
  LaneBook* book = LaneBook::create(2);
  book->open();
  const int line = __LINE__ + 1;
  count_if(crew, all, [](int x) { return x < 20; });
  none_of(crew, all, [](int x) { return x > 100; });
  group_by(crew, all, [](int x) { return x; });
  book->close();
  const internal::LaneLog log = book->log();
  LaneBook::destroy(book);
  REQUIRE(log.regions.size() >= 4);
  for (const internal::LaneRegion& region : log.regions) {
    CHECK(std::string(region.file).ends_with("count_test.cpp"));
    CHECK(region.line >= line);
    CHECK(region.line <= line + 2);
  }
  CHECK(internal::outer_place.file == nullptr);
}
