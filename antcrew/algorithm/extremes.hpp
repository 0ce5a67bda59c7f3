// The smallest and the largest item.
//
//   std::optional<std::size_t> lowest = min_element(crew, gauges);                        // its index; none of none
//   auto oldest = max_element(crew, tags, [](const Tag& a, const Tag& b) { return a.time < b.time; });
//   std::optional<Extremes> both = minmax_element(crew, gauges);                          // .smallest, .largest
//
// Of equal ones those that the standard library's sequential algorithms give: the first smallest, the first largest,
// and of minmax_element the last largest. less(a, b) may be called by several workers at once; an exception of it comes
// out. Any crew of threads; it is held from beginning to end. Cost: one pass, one comparison an item (two for both).
#pragma once

#include <cstddef>
#include <functional>
#include <optional>

#include "antcrew/algorithm/internal/over_items.hpp"

namespace antcrew {

struct Extremes {
  std::size_t smallest = 0;  // indices
  std::size_t largest = 0;
  friend bool operator==(const Extremes&, const Extremes&) = default;
};

namespace internal {

// better(a, b): whether index a is to be kept rather than b, which lies before it.
template <class Items, class Better>
std::optional<std::size_t> best_of(const Items& items, Better&& better) {
  return items.joined([](std::size_t i) { return i; },
                      [&](std::size_t before, std::size_t next) { return better(next, before) ? next : before; });
}

}  // namespace internal

template <class Crew, internal::Items All, class Less = std::less<>>
std::optional<std::size_t> min_element(Crew& crew, All&& all, Less less = {}, CallPlace at = CallPlace::here()) {
  const auto items = internal::over_items(crew, all, at);
  return internal::best_of(items, [&](std::size_t a, std::size_t b) { return less(items[a], items[b]); });
}

template <class Crew, internal::Items All, class Less = std::less<>>
std::optional<std::size_t> max_element(Crew& crew, All&& all, Less less = {}, CallPlace at = CallPlace::here()) {
  const auto items = internal::over_items(crew, all, at);
  return internal::best_of(items, [&](std::size_t a, std::size_t b) { return less(items[b], items[a]); });
}

template <class Crew, internal::Items All, class Less = std::less<>>
std::optional<Extremes> minmax_element(Crew& crew, All&& all, Less less = {}, CallPlace at = CallPlace::here()) {
  const auto items = internal::over_items(crew, all, at);
  return items.joined(
      [](std::size_t i) {
        return Extremes{i, i};
      },
      [&](Extremes so_far, const Extremes& more) {
        if (less(items[more.smallest], items[so_far.smallest])) so_far.smallest = more.smallest;
        if (!less(items[more.largest], items[so_far.largest])) so_far.largest = more.largest;
        return so_far;
      });
}

}  // namespace antcrew
