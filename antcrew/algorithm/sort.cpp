#include "antcrew/algorithm/sort.hpp"

#include "antcrew/machine/limits.hpp"

namespace antcrew::internal {

std::size_t least_parallel_sort(int workers) {
  constexpr std::size_t least = 4096;
  if (workers <= usable_processors_now()) return least;
  return least * static_cast<std::size_t>(std::max(1, workers * 3 / 4));
}

}  // namespace antcrew::internal
