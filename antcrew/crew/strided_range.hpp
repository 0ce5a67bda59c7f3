// Every so many-th index of a stretch: for loops that leave some out.
//
//   crew.each(StridedRange{1, rows, 2}, [&](std::size_t row) { relax(row); });   // the odd rows
#pragma once

#include <cstddef>

namespace antcrew {

// first, first + step, … below last. A step of 0 counts as 1.
struct StridedRange {
  std::size_t first = 0;
  std::size_t last = 0;
  std::size_t step = 1;

  constexpr std::size_t size() const noexcept { return first >= last ? 0 : (last - first - 1) / by() + 1; }
  constexpr std::size_t operator[](std::size_t k) const noexcept { return first + k * by(); }

 private:
  constexpr std::size_t by() const noexcept { return step == 0 ? 1 : step; }
};

}  // namespace antcrew
