// Into how many ranges work is cut whose answer depends on where: folds and scans.
#pragma once

#include <cstddef>

namespace antcrew::internal {

// How many ranges a fold or a scan of n items has, whatever the number of workers and the split: one for each of few
// items, so that as many workers can have one each; one for each of 64 workers otherwise, and enough to level unequal
// ranges where there are many items; few enough that handing them out costs little beside the items, and microseconds
// at most.
constexpr std::size_t fixed_ranges(std::size_t n) noexcept {
  constexpr std::size_t few = 64;
  constexpr std::size_t many = 1024;
  constexpr std::size_t least_items = 32;
  if (n <= few) return n;
  const std::size_t ranges = n / least_items;
  return ranges < few ? few : ranges < many ? ranges : many;
}

}  // namespace antcrew::internal
