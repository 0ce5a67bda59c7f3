// Counting and summing up what passes a test, or what a function makes of the items.
//
//   std::size_t deep = count_if(crew, echoes, [](const Echo& e) { return e.depth > 40; });
//   bool sound = all_of(crew, echoes, …), none = none_of(crew, n, [&](std::size_t i) { … });   // of 0 … n-1
//   double volume = transform_reduce(crew, cells, 0.0, std::plus<>(), [](const Cell& c) { return c.volume(); });
//   std::vector<std::size_t> counts = histogram(crew, echoes, 16, [](const Echo& e) { return e.depth / 4; });
//
// Results are those of the standard library's sequential algorithms. transform_reduce combines in the order of the
// items, grouped by borders that depend on their number alone: the same sum for every worker count, also in floating
// point. all_of and none_of end early, as find does; the others visit every item once. A function may be called by
// several workers at once; an exception of it comes out. Any crew of threads; it is held from beginning to end.
// Cost: one pass over the items; histogram besides so many counters a range or worker.
#pragma once

#include <algorithm>
#include <cstddef>
#include <functional>
#include <optional>
#include <utility>
#include <vector>

#include "antcrew/algorithm/find.hpp"
#include "antcrew/algorithm/internal/over_items.hpp"
#include "antcrew/base/error.hpp"

namespace antcrew {

template <class Crew, internal::CountOrItems Over, class Test>
std::size_t count_if(Crew& crew, Over&& over, Test&& test, CallPlace at = CallPlace::here()) {
  const auto items = internal::over_items(crew, over, at);
  return items.fold(
      std::size_t{0},
      [&](Range range) {
        std::size_t count = 0;
        for (const std::size_t i : range) count += test(items[i]) ? 1 : 0;
        return count;
      },
      std::plus<>());
}

template <class Crew, internal::CountOrItems Over, class Test>
bool none_of(Crew& crew, Over&& over, Test&& test, CallPlace at = CallPlace::here()) {
  return !antcrew::find(crew, over, test, at).has_value();
}
template <class Crew, internal::CountOrItems Over, class Test>
bool all_of(Crew& crew, Over&& over, Test&& test, CallPlace at = CallPlace::here()) {
  return antcrew::none_of(
      crew, over, [&](auto&& item) { return !test(item); }, at);
}

// combine(… combine(combine(start, f(a)), f(b)) …), where combine is associative.
template <class Crew, internal::CountOrItems Over, class Start, class Combine, class Make>
Start transform_reduce(Crew& crew, Over&& over, Start start, Combine&& combine, Make&& make,
                       CallPlace at = CallPlace::here()) {
  const auto items = internal::over_items(crew, over, at);
  return items.fold(
      std::move(start),
      [&](Range range) {
        Start own(make(items[range.first]));
        for (std::size_t i = range.first + 1; i < range.last; ++i) own = combine(std::move(own), make(items[i]));
        return own;
      },
      combine);
}

namespace internal {

// Throws Error (algorithm.bin).
[[noreturn]] void refuse_bin(std::size_t item, std::size_t bins);

}  // namespace internal

// How many items have bin_of(item) == 0, 1, … bins - 1. Throws Error (algorithm.bin) for any other number.
template <class Crew, internal::CountOrItems Over, class BinOf>
std::vector<std::size_t> histogram(Crew& crew, Over&& over, std::size_t bins, BinOf&& bin_of,
                                   CallPlace at = CallPlace::here()) {
  const auto items = internal::over_items(crew, over, at);
  constexpr std::size_t few_bins = 4096;  // beyond, counters take more memory than the items
  const std::size_t n = items.size();
  const std::size_t parts =
      bins <= few_bins ? internal::fixed_ranges(n) : std::min(n, static_cast<std::size_t>(items.workers()));
  std::vector<std::vector<std::size_t>> counts(parts);
  items.parts(n, parts, [&](Range range, std::size_t k) {
    std::vector<std::size_t> own(bins);
    for (const std::size_t i : range) {
      const auto bin = bin_of(items[i]);
      if (!std::in_range<std::size_t>(bin) || static_cast<std::size_t>(bin) >= bins) internal::refuse_bin(i, bins);
      ++own[static_cast<std::size_t>(bin)];
    }
    counts[k] = std::move(own);
  });
  std::vector<std::size_t> all(bins);
  for (const std::vector<std::size_t>& own : counts) {
    for (std::size_t bin = 0; bin < bins; ++bin) all[bin] += own[bin];
  }
  return all;
}

}  // namespace antcrew
