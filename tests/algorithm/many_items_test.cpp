// What algorithms do otherwise from so many items on, and with keys of different kinds.
#include <doctest/doctest.h>
#include <antcrew/antcrew.hpp>

#include <algorithm>
#include <atomic>
#include <cstdint>
#include <map>
#include <random>
#include <string>
#include <vector>

using namespace antcrew;

namespace {

#ifdef ANTCREW_SANITIZED
constexpr bool briefly = true;  // there every access takes many times as long
#else
constexpr bool briefly = false;
#endif

template <class Use>
void on_some_crews(Use&& use) {
  for (const int workers : {3, 1, 2, 7}) {
    if (briefly && workers != 3) break;
    CAPTURE(workers);
    ThreadCrew threads(workers);
    use(threads);
  }
  if (briefly) return;
  TaskCrew tasks(3);
  use(tasks);
}

std::vector<std::uint32_t> many_numbers(std::size_t n, std::uint32_t different) {
  std::mt19937 random(n + different);
  std::vector<std::uint32_t> all(n);
  for (std::uint32_t& x : all) x = static_cast<std::uint32_t>(random()) % different;
  return all;
}

// Against a sorted map of the standard library.
template <class Crew, class All, class KeyOf>
void check_groups(Crew& crew, const All& all, const KeyOf& key_of) {
  std::map<decltype(key_of(all[0])), std::vector<std::size_t>> expected;
  for (std::size_t i = 0; i < all.size(); ++i) expected[key_of(all[i])].push_back(i);
  const auto groups = group_by(crew, all, key_of);
  REQUIRE(groups.size() == expected.size());
  std::size_t k = 0;
  bool same = true;
  for (const auto& [key, indices] : expected) {
    same = same && groups[k].key == key && groups[k].indices == indices;
    ++k;
  }
  CHECK(same);
}

enum class Ground : std::uint8_t { shoal, channel, wreck };

}  // namespace

TEST_CASE("groups of many items: few keys, one a half of all, a key each, and keys without a hash") {
  on_some_crews([](auto& crew) {
    const auto all = many_numbers(briefly ? 12'000 : 60'000, 1'000'000);
    check_groups(crew, all, [](std::uint32_t x) { return x % 1000; });
    check_groups(crew, all, [](std::uint32_t x) { return x % 2 == 0 ? std::uint32_t{7} : x; });
    check_groups(crew, all, [](std::uint32_t x) { return x; });
    check_groups(crew, all, [](std::uint32_t x) { return static_cast<Ground>(x % 3); });
    check_groups(crew, all, [](std::uint32_t x) { return -static_cast<std::int64_t>(x % 50); });
    check_groups(crew, all, [](std::uint32_t x) { return 0.5 * (x % 100); });
    check_groups(crew, all, [](std::uint32_t x) { return std::string(x % 40, 'a'); });
    // Keys that come late: each part has many that others have not.
    check_groups(crew, all, [&](const std::uint32_t& x) { return static_cast<std::uint32_t>(&x - all.data()) / 10; });
  });
}

TEST_CASE("the key is asked for once an item, whichever way groups are made") {
  ThreadCrew crew(3);
  for (const std::uint32_t different : {10u, 1'000'000u}) {
    const auto all = many_numbers(30'000, different);
    std::atomic<std::size_t> asked{0};
    group_by(crew, all, [&](std::uint32_t x) { return ++asked, x; });
    CHECK(asked == all.size());
  }
}

TEST_CASE("the nth of many: few values, one value, sorted, backwards, at both ends") {
  on_some_crews([](auto& crew) {
    for (const std::uint32_t different : {1u, 2u, 5u, 1'000'000u}) {
      for (const int order : {0, 1, 2}) {
        if (briefly && (order > 0 || different == 1 || different == 5)) continue;
        auto all = many_numbers(briefly ? 70'000 : 150'000, different);
        if (order == 1) std::sort(all.begin(), all.end());
        if (order == 2) std::sort(all.begin(), all.end(), std::greater<>());
        auto sorted = all;
        std::sort(sorted.begin(), sorted.end());
        for (const std::size_t nth : {all.size() / 2, std::size_t{0}, all.size() - 1}) {
          if (briefly && nth != all.size() / 2) continue;
          CAPTURE(different);
          CAPTURE(order);
          CAPTURE(nth);
          auto ours = all;
          nth_element(crew, ours, nth);
          const std::uint32_t its = ours[nth];
          CHECK(its == sorted[nth]);
          const auto at = ours.begin() + static_cast<std::ptrdiff_t>(nth);
          CHECK(std::all_of(ours.begin(), at, [&](std::uint32_t x) { return x <= its; }));
          CHECK(std::all_of(at, ours.end(), [&](std::uint32_t x) { return x >= its; }));
          std::sort(ours.begin(), ours.end());
          CHECK(ours == sorted);
        }
      }
    }
  });
}
