// How a loop over 0 … n-1 is cut into pieces for the workers of a crew.
//
//   crew.each(n, [&](std::size_t i) { … }, {.split = Split::chunks(64)});
//
// even: one range a worker, cheapest, for work that costs the same everywhere. chunks: fixed pieces taken on demand,
// for work of unequal cost. tapering: pieces that start large and shrink, fewer hand-outs than chunks.
#pragma once

#include <cstddef>

namespace antcrew {

class Split {
 public:
  enum class Kind { even, chunks, tapering };

  static constexpr Split even() noexcept { return {Kind::even, 1}; }
  // Pieces of `items` indices (0 counts as 1); the last one may be shorter.
  static constexpr Split chunks(std::size_t items) noexcept { return {Kind::chunks, items}; }
  // Each piece is half of what would be an even share of the rest, never under `smallest` (but for the last).
  static constexpr Split tapering(std::size_t smallest) noexcept { return {Kind::tapering, smallest}; }

  constexpr Kind kind() const noexcept { return kind_; }
  constexpr std::size_t items() const noexcept { return items_; }

 private:
  constexpr Split(Kind kind, std::size_t items) noexcept : kind_(kind), items_(items == 0 ? 1 : items) {}
  Kind kind_;
  std::size_t items_;
};

}  // namespace antcrew
