// Items brought together by a key, and differences of neighbours.
//
//   auto by_port = group_by(crew, catches, [](const Catch& c) { return c.port; });
//   for (const auto& [port, indices] : by_port) …        // keys ascending; of each, the indices in ascending order
//   Column<double> steps = adjacent_difference(crew, gauges);   // gauges[0], gauges[1] - gauges[0], …
//
// The key is asked for once an item, by several workers at once; keys are compared by < and copied. An exception of the
// function comes out. Any crew of threads; it is held from beginning to end.
// Cost: group_by one key an item, a stable sort of the indices, and one pass; adjacent_difference one pass.
#pragma once

#include <cstddef>
#include <functional>
#include <iterator>
#include <numeric>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/algorithm/filter.hpp"
#include "antcrew/algorithm/internal/over_items.hpp"
#include "antcrew/algorithm/sort.hpp"

namespace antcrew {

template <class Key>
struct GroupOf {
  Key key;
  std::vector<std::size_t> indices;
};

template <class Crew, internal::CountOrItems Over, class KeyOf>
auto group_by(Crew& crew, Over&& over, KeyOf&& key_of, CallPlace at = CallPlace::here()) {
  const auto items = internal::over_items(crew, over, at);
  using Key = std::decay_t<std::invoke_result_t<KeyOf&, decltype(items[0])>>;
  const std::size_t n = items.size();
  const auto keys = crew.collect(n, [&](std::size_t i) { return Key(key_of(items[i])); });
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
