// Items brought together by a key, and differences of neighbours.
//
//   auto by_port = group_by(crew, catches, [](const Catch& c) { return c.port; });
//   for (const auto& [port, indices] : by_port) …        // keys ascending; of each, the indices in ascending order
//   Column<double> steps = adjacent_difference(crew, gauges);   // gauges[0], gauges[1] - gauges[0], …
//
// The key is asked for once an item, by several workers at once; keys are compared by < and copied. An exception of the
// function comes out. Any crew of threads; it is held from beginning to end.
// Cost: group_by one key an item; of whole numbers and texts that are the same for eight items or more a hash an item
// and one more pass, else a stable sort of the indices and one pass; adjacent_difference one pass.
#pragma once

#include <atomic>
#include <concepts>
#include <cstddef>
#include <functional>
#include <iterator>
#include <map>
#include <numeric>
#include <optional>
#include <string>
#include <type_traits>
#include <unordered_map>
#include <utility>
#include <vector>

#include "antcrew/algorithm/filter.hpp"
#include "antcrew/algorithm/internal/over_items.hpp"
#include "antcrew/algorithm/sort.hpp"
#include "antcrew/base/smaller.hpp"

namespace antcrew {

template <class Key>
struct GroupOf {
  Key key;
  std::vector<std::size_t> indices;
};

namespace internal {

// Equal and of equal order are one thing for them, and they have a hash.
template <class Key>
concept HashedKey = std::integral<Key> || std::is_enum_v<Key> || std::is_same_v<Key, std::string>;

// Each part makes groups of its own, which are then joined key by key. None where there are too many keys for that.
template <class Items, class Keys>
auto groups_by_hash(const Items& items, const Keys& keys) {
  using Key = std::decay_t<decltype(keys[0])>;
  using Groups = std::vector<GroupOf<Key>>;
  constexpr std::size_t least_items = 4096;  // in a part
  constexpr std::size_t items_a_key = 8;     // with fewer, sorting is quicker
  const std::size_t n = items.size();
  const std::size_t parts = smaller_of(4 * static_cast<std::size_t>(items.workers()), n / least_items + 1);
  std::vector<Groups> made(parts);
  std::atomic<bool> too_many{false};
  items.parts(n, parts, [&](Range range, std::size_t part) {
    std::unordered_map<Key, std::size_t> places;
    Groups own;
    const std::size_t most = range.size() / items_a_key + 1;
    for (const std::size_t i : range) {
      const auto [place, fresh] = places.try_emplace(keys[i], own.size());
      if (fresh) {
        // Relaxed: it only saves work; who reads it in the end does so behind the join.
        if (own.size() == most) too_many.store(true, std::memory_order_relaxed);
        if (too_many.load(std::memory_order_relaxed)) return;
        own.push_back({keys[i], {}});
      }
      own[place->second].indices.push_back(i);
    }
    made[part] = std::move(own);
  });
  using Pieces = std::vector<GroupOf<Key>*>;
  std::vector<Pieces> pieces;
  const auto joined = [&] {
    return items.crew().collect(pieces.size(), [&](std::size_t g) {
      GroupOf<Key> group{pieces[g].front()->key, {}};
      std::size_t count = 0;
      for (const GroupOf<Key>* piece : pieces[g]) count += piece->indices.size();
      group.indices.reserve(count);
      for (const GroupOf<Key>* piece : pieces[g])
        group.indices.insert(group.indices.end(), piece->indices.begin(), piece->indices.end());
      return group;
    });
  };
  using Joined = decltype(joined());
  if (too_many.load(std::memory_order_relaxed)) return std::optional<Joined>();
  std::map<Key, Pieces> by_key;
  for (Groups& own : made) {
    for (GroupOf<Key>& group : own) by_key[group.key].push_back(&group);
  }
  for (auto& [key, its] : by_key) pieces.push_back(std::move(its));
  return std::optional<Joined>(joined());
}

}  // namespace internal

template <class Crew, internal::CountOrItems Over, class KeyOf>
auto group_by(Crew& crew, Over&& over, KeyOf&& key_of, CallPlace at = CallPlace::here()) {
  const auto items = internal::over_items(crew, over, at);
  using Key = std::decay_t<std::invoke_result_t<KeyOf&, decltype(items[0])>>;
  const std::size_t n = items.size();
  const auto keys = crew.collect(n, [&](std::size_t i) { return Key(key_of(items[i])); });
  if constexpr (internal::HashedKey<Key>) {
    if (auto groups = internal::groups_by_hash(items, keys)) return std::move(*groups);
  }
  auto order = crew.collect(n, [](std::size_t i) { return i; });
  antcrew::stable_sort(crew, order, [&](std::size_t a, std::size_t b) { return keys[a] < keys[b]; });
  const auto begins =
      antcrew::filter(crew, n, [&](std::size_t k) { return k == 0 || keys[order[k - 1]] < keys[order[k]]; });
  return crew.collect(begins.size(), [&](std::size_t g) {
    const std::size_t end = g + 1 < begins.size() ? begins[g + 1] : n;
    return GroupOf<Key>{keys[order[begins[g]]],
                        std::vector<std::size_t>(order.begin() + begins[g], order.begin() + end)};
  });
}

template <class Crew, internal::Items All, class Minus = std::minus<>>
auto adjacent_difference(Crew& crew, const All& all, Minus minus = {}, CallPlace at = CallPlace::here()) {
  const auto items = internal::over_items(crew, all, at);
  using T = std::iter_value_t<decltype(std::begin(all))>;
  return crew.collect(items.size(),
                      [&](std::size_t i) -> T { return i == 0 ? T(items[0]) : T(minus(items[i], items[i - 1])); });
}

}  // namespace antcrew
