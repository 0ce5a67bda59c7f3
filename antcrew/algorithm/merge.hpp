// Of two sorted ranges: merged, or as sets (of equal items as many as the standard library's algorithms keep).
//
//   Column<Tag> all = merge(crew, port, starboard);                   // of equal ones those of the first range in
//   front Column<Tag> either = set_union(crew, port, starboard, by_time); set_intersection, set_difference,
//   set_symmetric_difference        // likewise
//
// Items are copied into the answer. less(a, b) may be called by several workers at once; an exception of it or of a
// copy comes out, and nothing else has changed then. Any crew of threads; it is held from beginning to end. Cost: one
// comparison and one copy an item of the answer; the set operations one copy more.
#pragma once

#include <algorithm>
#include <cstddef>
#include <functional>
#include <iterator>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/algorithm/filter.hpp"
#include "antcrew/algorithm/internal/over_items.hpp"
#include "antcrew/crew/column.hpp"

namespace antcrew {

namespace internal {

// How many of the first `out` merged items are from a: of equal ones those of a come first.
template <class A, class B, class Less>
std::size_t cut_of_merged(const A& a, const B& b, std::size_t out, Less& less) {
  std::size_t low = out > b.n ? out - b.n : 0;
  std::size_t high = std::min(out, a.n);
  while (low < high) {
    const std::size_t from_a = low + (high - low) / 2;
    if (less(b[out - from_a - 1], a[from_a])) {
      high = from_a;
    } else {
      low = from_a + 1;
    }
  }
  return low;
}

template <class Of>
auto steps_of(const Of& of, std::size_t i) {
  return of.first + static_cast<std::iter_difference_t<decltype(of.first)>>(i);
}

// Both ranges in parts between which no equal items are divided; what operate(…) makes of each part, in order.
template <class Crew, class A, class B, class Less, class Operate>
auto by_sets(Crew& crew, A&& first, B&& second, Less& less, const CallPlace& at, Operate&& operate) {
  using T = std::iter_value_t<decltype(std::begin(first))>;
  const auto a = items_of(first);
  const auto b = items_of(second);
  const OverItems<Crew, Indices> over(crew, Indices{a.n + b.n}, at);
  const std::size_t parts = std::max<std::size_t>(1, fixed_ranges(over.size()));
  std::vector<std::vector<T>> made(parts);
  // Where a part begins: at an item of the longer range, before all that equal it.
  const auto cuts_at = [&](std::size_t k) -> std::pair<std::size_t, std::size_t> {
    if (k == 0) return {0, 0};
    if (k == parts) return {a.n, b.n};
    const auto lower = [&](const auto& of, const auto& item) {
      return static_cast<std::size_t>(std::lower_bound(of.first, steps_of(of, of.n), item, less) - of.first);
    };
    const std::size_t at_item = even_part(std::max(a.n, b.n), parts, k).first;
    if (at_item == std::max(a.n, b.n)) return {a.n, b.n};
    const auto around = [&](const auto& item) { return std::pair(lower(a, item), lower(b, item)); };
    return a.n >= b.n ? around(a[at_item]) : around(b[at_item]);
  };
  over.parts(parts, parts, [&](Range, std::size_t k) {
    const auto [a0, b0] = cuts_at(k);
    const auto [a1, b1] = cuts_at(k + 1);
    operate(steps_of(a, a0), steps_of(a, a1), steps_of(b, b0), steps_of(b, b1), std::back_inserter(made[k]));
  });
  std::vector<std::size_t> begins(parts + 1);
  for (std::size_t k = 0; k < parts; ++k) begins[k + 1] = begins[k] + made[k].size();
  Stretches<T> stretches(begins[parts], parts);
  over.parts(parts, parts, [&](Range, std::size_t k) {
    typename Stretches<T>::Stretch stretch(stretches, k, begins[k]);
    for (T& item : made[k]) stretch.add(std::move(item));
  });
  return std::move(stretches).finished();
}

}  // namespace internal

template <class Crew, internal::Items A, internal::Items B, class Less = std::less<>>
auto merge(Crew& crew, A&& first, B&& second, Less less = {}, CallPlace at = CallPlace::here()) {
  using T = std::iter_value_t<decltype(std::begin(first))>;
  const auto a = internal::items_of(first);
  const auto b = internal::items_of(second);
  const internal::OverItems<Crew, internal::Indices> over(crew, internal::Indices{a.n + b.n}, at);
  const std::size_t n = over.size();
  const std::size_t parts = internal::fixed_ranges(n);
  internal::Stretches<T> stretches(n, parts);
  over.parts(n, parts, [&](Range out, std::size_t k) {
    std::size_t i = internal::cut_of_merged(a, b, out.first, less);
    std::size_t j = out.first - i;
    typename internal::Stretches<T>::Stretch stretch(stretches, k, out.first);
    for (std::size_t count = out.size(); count > 0; --count) {
      if (i < a.n && (j == b.n || !less(b[j], a[i]))) {
        stretch.add(a[i++]);
      } else {
        stretch.add(b[j++]);
      }
    }
  });
  return std::move(stretches).finished();
}

template <class Crew, internal::Items A, internal::Items B, class Less = std::less<>>
auto set_union(Crew& crew, A&& first, B&& second, Less less = {}, CallPlace at = CallPlace::here()) {
  return internal::by_sets(crew, first, second, less, at, [&](auto a, auto a_end, auto b, auto b_end, auto to) {
    std::set_union(a, a_end, b, b_end, to, less);
  });
}
template <class Crew, internal::Items A, internal::Items B, class Less = std::less<>>
auto set_intersection(Crew& crew, A&& first, B&& second, Less less = {}, CallPlace at = CallPlace::here()) {
  return internal::by_sets(crew, first, second, less, at, [&](auto a, auto a_end, auto b, auto b_end, auto to) {
    std::set_intersection(a, a_end, b, b_end, to, less);
  });
}
template <class Crew, internal::Items A, internal::Items B, class Less = std::less<>>
auto set_difference(Crew& crew, A&& first, B&& second, Less less = {}, CallPlace at = CallPlace::here()) {
  return internal::by_sets(crew, first, second, less, at, [&](auto a, auto a_end, auto b, auto b_end, auto to) {
    std::set_difference(a, a_end, b, b_end, to, less);
  });
}
template <class Crew, internal::Items A, internal::Items B, class Less = std::less<>>
auto set_symmetric_difference(Crew& crew, A&& first, B&& second, Less less = {}, CallPlace at = CallPlace::here()) {
  return internal::by_sets(crew, first, second, less, at, [&](auto a, auto a_end, auto b, auto b_end, auto to) {
    std::set_symmetric_difference(a, a_end, b, b_end, to, less);
  });
}

}  // namespace antcrew
