// Keys of all kinds of types, and what becomes of them when something goes wrong.
#include <doctest/doctest.h>

#include <atomic>
#include <compare>
#include <cstdint>
#include <functional>
#include <string>
#include <thread>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/share/key_map.hpp"
#include "antcrew/share/key_set.hpp"
#include "share/keys.hpp"

using namespace antcrew;
using test::FewOwnKeys;
using test::key;

namespace {

// Equal by the last digit only.
struct LastDigit {
  int value;
  bool operator==(const LastDigit& other) const { return value % 10 == other.value % 10; }
  bool operator<(const LastDigit& other) const { return value % 10 < other.value % 10; }
};

struct Place {
  std::uint16_t row;
  std::uint16_t column;
  bool operator==(const Place&) const = default;
  auto operator<=>(const Place&) const = default;
};

enum class Gauge : std::uint8_t { ebb, flood };

}  // namespace

template <>
struct std::hash<LastDigit> {
  std::size_t operator()(const LastDigit& key) const noexcept { return static_cast<std::size_t>(key.value % 10); }
};
template <>
inline constexpr bool antcrew::keys_are_their_bits<Place> = true;

TEST_CASE("keys are compared and hashed as their type says; bits stand for keys only where that is sure, or said") {
  ThreadCrew crew(3);
  KeySet<LastDigit> digits;
  KeyMap<LastDigit, int> counts;
  crew.each(1000, Split::chunks(1), [&](std::size_t i) {
    digits.insert({static_cast<int>(i)});
    counts.add({static_cast<int>(i)}, 1);
  });
  CHECK(digits.size() == 10);
  CHECK(digits.contains({77'777}));
  CHECK(counts.find({5}) == 100);
  struct Twice {
    std::size_t operator()(int key) const noexcept { return static_cast<std::size_t>(key) * 2; }
  };
  KeySet<int, Twice> own_hash;
  own_hash.insert(3);
  CHECK(own_hash.contains(3));
  CHECK_FALSE(own_hash.contains(4));
  KeySet<Place> places;
  KeyMap<Place, int> depths;
  KeySet<Gauge> gauges;
  crew.each(400, [&](std::size_t i) {
    const Place place{static_cast<std::uint16_t>(i / 20), static_cast<std::uint16_t>(i % 20)};
    places.insert(place);
    depths.add(place, static_cast<int>(i));
    gauges.insert(i % 2 == 0 ? Gauge::ebb : Gauge::flood);
  });
  CHECK(places.size() == 400);
  CHECK(depths.find({3, 4}) == 64);
  CHECK(gauges.size() == 2);
}

TEST_CASE("a map of flags") {
  ThreadCrew crew(2);
  KeyMap<int, bool> seen;
  crew.each(100, [&](std::size_t i) { seen.update(static_cast<int>(i % 10), [](bool& flag) { flag = true; }); });
  CHECK(seen.find(3) == true);
  CHECK(seen.size() == 10);
  CHECK(seen.insert(11, false));
  CHECK(seen.take_sorted(crew).size() == 11);
}

TEST_CASE("room made beforehand changes nothing but the room") {
  KeySet<std::uint64_t> set;
  KeyMap<std::string, int> map;
  set.insert(key(5, 1000));
  set.reserve(100'000);
  map.reserve(10'000);
  ThreadCrew crew(4);
  crew.each(100'000, Split::chunks(100), [&](std::size_t i) {
    set.insert(key(i, 50'000));
    map.update(std::to_string(i % 1000), [](int& n) { ++n; });
  });
  CHECK(set.size() == 50'000);
  CHECK(map.find("7") == 100);
  set.reserve(10);
  CHECK(set.contains(key(77, 50'000)));
  CHECK(set.take_sorted(crew).size() == 50'000);
}

TEST_CASE("keys that are taken out with a crew that is refused, or a comparison that throws, are all still there") {
  ThreadCrew crew(2);
  KeySet<std::string> words;
  KeyMap<std::string, int> counts;
  KeySet<int> numbers;
  for (int k = 0; k < 20'000; ++k) {
    words.insert(std::to_string(k));
    counts.update(std::to_string(k), [](int& n) { ++n; });
    numbers.insert(k);
  }
  crew.ranges(1, [&](Range) {
    std::thread([&] {
      CHECK_THROWS_AS(words.take_sorted(crew), Error);
      CHECK_THROWS_AS(counts.take_sorted(crew), Error);
      CHECK_THROWS_AS(numbers.take_sorted(crew), Error);
    }).join();
  });
  CHECK(words.size() == 20'000);
  CHECK(words.contains("777"));
  CHECK(counts.find("777") == 1);
  CHECK(words.take_sorted(crew).size() == 20'000);
  CHECK(counts.take_sorted(crew).size() == 20'000);
  CHECK(numbers.take_sorted(crew).size() == 20'000);
  CHECK(words.size() == 0);
}

TEST_CASE("a map whose workers have no room for sums of their own counts on without a halt") {
  const FewOwnKeys few(50);
  ThreadCrew crew(3);
  KeyMap<int, std::uint64_t> counts;
  crew.each(100'000, Split::chunks(10), [&](std::size_t i) { counts.add(static_cast<int>(i % 1000), 1); });
  for (const int k : {0, 1, 49, 50, 999}) CHECK(counts.find(k) == 100);
  CHECK(counts.size() == 1000);
  crew.each(1000, [&](std::size_t i) { counts.add(static_cast<int>(i), 1); });
  CHECK(counts.find(5) == 101);
  const auto all = counts.take_sorted(crew);
  CHECK(all.size() == 1000);
  CHECK(all[999] == std::pair<int, std::uint64_t>(999, 101));
}
