#include "antcrew/ranks/rank_array.hpp"

#include <algorithm>
#include <cstdlib>
#include <limits>
#include <new>

#include "antcrew/machine/cache_line.hpp"

namespace antcrew::internal {

RankBlocks::RankBlocks(std::size_t n, SpreadOptions options, int ranks)
    : n_(n),
      halo_(options.halo),
      unit_(options.unit > 0 ? options.unit : std::max<std::size_t>(1, options.halo)),
      ranks_(ranks) {
  if (halo_ > unit_ && ranks_ > 1) {
    base_layer::bad_input(
        "ranks.halo", "RankCrew::spread",
        "blocks of " + std::to_string(unit_) + " items may be shorter than the halo of " + std::to_string(halo_),
        "leave the unit out, or make it at least as long");
  }
  if (halo_ > 0 && n_ % unit_ != 0) {
    base_layer::bad_input("ranks.halo", "RankCrew::spread",
                          std::to_string(n_) + " items are no whole number of units of " + std::to_string(unit_),
                          "give a unit that divides them: the length of a row, say");
  }
}

Range RankBlocks::of(int rank) const noexcept {
  const Range units =
      even_part((n_ + unit_ - 1) / unit_, static_cast<std::size_t>(ranks_), static_cast<std::size_t>(rank));
  return {std::min(n_, units.first * unit_), std::min(n_, units.last * unit_)};
}

Range RankBlocks::seen_by(int rank) const noexcept {
  const Range own = of(rank);
  if (own.empty()) return own;
  return {before(rank) >= 0 ? own.first - halo_ : own.first, after(rank) >= 0 ? own.last + halo_ : own.last};
}

// What malloc gave stands before the block.
void* new_block(std::size_t bytes) {
  if (bytes == 0) return nullptr;
  constexpr std::size_t more = line_bytes + sizeof(void*);
  void* whole = bytes > std::numeric_limits<std::size_t>::max() - more ? nullptr : std::malloc(bytes + more);
  if (whole == nullptr) throw std::bad_alloc();
  const auto least = reinterpret_cast<std::uintptr_t>(whole) + sizeof(void*);
  void** block = reinterpret_cast<void**>((least + line_bytes - 1) / line_bytes * line_bytes);
  block[-1] = whole;
  return block;
}

void free_block(void* block) noexcept {
  if (block != nullptr) std::free(static_cast<void**>(block)[-1]);
}

}  // namespace antcrew::internal
