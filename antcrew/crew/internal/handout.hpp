// Hands the pieces of 0 … n-1 to workers, each index exactly once.
#pragma once

#include <algorithm>
#include <atomic>
#include <cstddef>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/internal/jostle.hpp"
#include "antcrew/crew/split.hpp"

namespace antcrew::internal {

class Handout {
 public:
  Handout(std::size_t n, Split split, int workers) noexcept
      : n_(n), split_(split), workers_(static_cast<std::size_t>(workers)) {}

  // Gives `body` this worker's pieces until none is left or the region was cancelled.
  template <class Body>
  void drain(int worker, const std::atomic<bool>& cancelled, Body& body) {
    if (split_.kind() == Split::Kind::even) {
      const Range mine = even_part(n_, workers_, static_cast<std::size_t>(worker));
      at_border();
      if (!mine.empty()) body(mine);
      at_border();
      return;
    }
    Range piece;
    while (!cancelled.load(std::memory_order_relaxed) && take(piece)) {
      at_border();
      body(piece);
    }
  }

 private:
  bool take(Range& piece) noexcept {
    return split_.kind() == Split::Kind::chunks ? take_chunk(piece) : take_taper(piece);
  }

  // Relaxed is enough: the counter only deals out disjoint ranges; what the bodies write is published by the join.
  bool take_chunk(Range& piece) noexcept {
    const std::size_t items = std::min(split_.items(), n_);
    const std::size_t first = next_.fetch_add(items, std::memory_order_relaxed);
    if (first >= n_) return false;
    piece = {first, items < n_ - first ? first + items : n_};
    return true;
  }

  bool take_taper(Range& piece) noexcept {
    std::size_t first = next_.load(std::memory_order_relaxed);
    std::size_t items = 0;
    do {
      if (first >= n_) return false;
      items = std::min(std::max(split_.items(), (n_ - first) / (2 * workers_)), n_ - first);
    } while (!next_.compare_exchange_weak(first, first + items, std::memory_order_relaxed));
    piece = {first, first + items};
    return true;
  }

  std::size_t n_;
  Split split_;
  std::size_t workers_;
  alignas(64) std::atomic<std::size_t> next_{0};
};

}  // namespace antcrew::internal
