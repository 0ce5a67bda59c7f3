// The first item that passes a test, as a sequential search would find it.
//
//   std::optional<std::size_t> wreck = find(crew, echoes, [](const Echo& e) { return e.is_metal(); });   // its index
//   bool any = any_of(crew, echoes, …);
//   auto first = find(crew, n, [&](std::size_t i) { return … ; });                                     // of 0 … n-1
//
// Gives the lowest index for every worker count and run. Items behind one that has been found are not begun any more,
// and the search ends as soon as all items before it have been tested; some items behind it may have been tested by
// then. The test may be called by several workers at once. An exception of it comes out, also where an item before the
// one that threw passes. Any crew of threads; the crew is held from beginning to end.
#pragma once

#include <atomic>
#include <cstddef>
#include <iterator>
#include <optional>

#include "antcrew/algorithm/internal/over_items.hpp"
#include "antcrew/base/range.hpp"

namespace antcrew {

namespace internal {

// Ranges are taken from the front on, each worker at the front of its own share; a few items are tested between two
// looks whether somebody has found an earlier one.
template <class Crew, class Test>
std::size_t first_passing(Crew& crew, std::size_t n, Test& test) {
  constexpr std::size_t between_looks = 512;
  std::atomic<std::size_t> lowest{n};
  const auto lower = [&](std::size_t i) {
    std::size_t seen = lowest.load(std::memory_order_relaxed);
    while (i < seen && !lowest.compare_exchange_weak(seen, i, std::memory_order_relaxed)) {
    }
  };
  const auto search = [&](Range range) {
    std::size_t step = 1;
    for (std::size_t first = range.first; first < range.last && first < lowest.load(std::memory_order_relaxed);) {
      const std::size_t last = range.last - first < step ? range.last : first + step;
      for (std::size_t i = first; i < last; ++i) {
        if (test(i)) return lower(i);
      }
      first = last;
      step = step < between_looks ? 2 * step : between_looks;
    }
  };
  if (crew.workers() == 1) {
    crew.ranges(n, search);
  } else {
    crew.ranges(n, Crew::small_pieces(n / 1024 + 1), search);
  }
  return lowest.load(std::memory_order_relaxed);
}

}  // namespace internal

// The items are 0 … n-1, or those of a range.
template <class Crew, internal::CountOrItems Over, class Test>
std::optional<std::size_t> find(Crew& crew, Over&& over, Test&& test, CallPlace at = CallPlace::here()) {
  const auto items = internal::over_items(crew, over, at);
  auto of_item = [&](std::size_t i) -> bool { return test(items[i]); };
  const std::size_t first = internal::first_passing(crew, items.size(), of_item);
  return first < items.size() ? std::optional(first) : std::nullopt;
}

template <class Crew, internal::CountOrItems Over, class Test>
bool any_of(Crew& crew, Over&& over, Test&& test, CallPlace at = CallPlace::here()) {
  return antcrew::find(crew, over, test, at).has_value();
}

}  // namespace antcrew
