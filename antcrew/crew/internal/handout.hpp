// Hands the pieces of 0 … n-1 to workers, each index exactly once.
//
// Fixed pieces are dealt out evenly before the region. Each worker takes from the front of its own share, which costs
// one compare-and-swap on a cache line of its own; one that has finished takes the back half of another's. Dealing with
// shares instead of one counter keeps workers off each other's cache lines (after Markatos and LeBlanc 1994, "Using
// processor affinity in loop scheduling on shared-memory multiprocessors").
//
// Invariant: a piece is in exactly one share, or was taken by the one worker whose compare-and-swap removed it. A share
// is one 64-bit word, so a swap that succeeds saw all of its state; that a value may return does no harm. Relaxed order
// is enough: the words only deal out disjoint numbers, what the bodies write is published by the join.
#pragma once

#include <algorithm>
#include <atomic>
#include <cstddef>
#include <cstdint>
#include <limits>
#include <type_traits>

#include "antcrew/base/enough.hpp"
#include "antcrew/base/range.hpp"
#include "antcrew/crew/internal/piece_body.hpp"
#include "antcrew/crew/split.hpp"
#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/random_delays.hpp"

namespace antcrew::internal {

// body(range, enough) for the pieces that one worker alone takes, in order, until all are done or it is enough. Returns
// how many there were. Bodies are small, and copied, as is what is asked: a body may change whatever it could know the
// address of, and that would be read again for each piece.
template <class Body>
std::size_t all_chunks(std::size_t n, std::size_t items, const Enough& enough, Body body) {
  std::size_t pieces = 0;
  std::size_t first = 0;
  if (enough.never() && !delays_are_on()) {  // nothing to look at between pieces
    if constexpr (std::is_same_v<Body, PieceBody>) {
      return all_chunks(n, items, enough, WholeBody{body.call, body.self});
    } else {
      for (; n - first > items; first += items, ++pieces) body(Range{first, first + items}, enough);
      if (first < n) body(Range{first, n}, enough);
      return pieces + (first < n ? 1 : 0);
    }
  }
  for (const Enough asked = enough; first < n && !asked(); ++pieces) {
    const std::size_t last = items < n - first ? first + items : n;
    at_border();
    body(Range{first, last}, enough);
    first = last;
  }
  return pieces;
}
template <class Body>
std::size_t all_pieces(std::size_t n, Split split, const Enough& enough, Body body) {
  if (split.kind() != Split::Kind::tapering) {
    return all_chunks(n, split.kind() == Split::Kind::even ? n : split.items(), enough, body);
  }
  std::size_t pieces = 0;
  for (std::size_t first = 0; first < n && !enough(); ++pieces) {
    const std::size_t left = n - first;
    const std::size_t items = std::min(left, std::max(split.items(), left / 2));
    at_border();
    body(Range{first, first + items}, enough);
    first += items;
  }
  return pieces;
}

// Units [first, last) that a worker still has, packed as last << 32 | first.
struct alignas(line_bytes) Share {
  std::atomic<std::uint64_t> word{0};
};

class Handout {
 public:
  // shares: one for each worker, used by chunks only; not read for one worker, who may as well take all_pieces().
  Handout(std::size_t n, Split split, int workers, Share* shares) noexcept
      : n_(n), split_(split), workers_(static_cast<std::size_t>(workers)), shares_(shares) {
    if (split_.kind() == Split::Kind::chunks && workers_ > 1) deal();
  }

  // Gives body(range, enough) this worker's pieces until none is left or it is enough. Returns how many there were.
  template <class Body>
  std::size_t drain(int worker, const Enough& enough, Body body) {
    const auto me = static_cast<std::size_t>(worker);
    if (workers_ == 1) return all_pieces(n_, split_, enough, body);
    if (split_.kind() == Split::Kind::even) return even(me, enough, body);
    return split_.kind() == Split::Kind::tapering ? tapering(enough, body) : chunks(me, enough, body);
  }

 private:
  static constexpr std::uint64_t packed(std::uint64_t first, std::uint64_t last) noexcept { return last << 32 | first; }
  static constexpr std::uint64_t first_of(std::uint64_t word) noexcept { return word & 0xFFFFFFFFu; }
  static constexpr std::uint64_t last_of(std::uint64_t word) noexcept { return word >> 32; }

  template <class Body>
  std::size_t even(std::size_t me, const Enough& enough, Body body) {
    const Range mine = even_part(n_, workers_, me);
    at_border();
    const bool wanted = !mine.empty() && !enough();
    if (wanted) body(mine, enough);
    at_border();
    return wanted ? 1 : 0;
  }

  template <class Body>
  std::size_t tapering(const Enough& enough, Body body) {
    std::size_t pieces = 0;
    for (Range piece; !enough() && take_taper(piece); ++pieces) {
      at_border();
      body(piece, enough);
    }
    return pieces;
  }

  template <class Body>
  std::size_t chunks(std::size_t me, const Enough& enough, const Body& body) {
    if constexpr (std::is_same_v<Body, PieceBody>) {
      if (split_.items() == 1 || !body.may_cut) return chunks(me, enough, WholeBody{body.call, body.self});
    }
    Share& mine = shares_[me];
    std::size_t pieces = 0;
    do {
      pieces += per_unit_ > 1 ? long_units(mine, enough, body) : single_units(mine, n_, split_.items(), enough, body);
    } while (!enough() && take_over(me));
    return pieces;
  }

  // A loop of its own, with no more in it than there are registers: what is stored between two swaps has to be written
  // before the second one, and what is loaded waits for it. Nobody else moves a share's front, which has the count.
  template <class Body>
  [[gnu::noinline]] static std::size_t single_units(Share& mine, std::size_t n, std::size_t items, const Enough& enough,
                                                    Body body) {
    const std::uint64_t begun = first_of(mine.word.load(std::memory_order_relaxed));
    if (enough.may_be_asked()) {
      for (std::uint64_t unit = 0; !enough() && take_front(mine, unit);) unit_of(unit, n, items, enough, body);
    } else {
      const std::atomic<bool>& failed = enough.failed();
      for (std::uint64_t unit = 0; !failed.load(std::memory_order_relaxed) && take_front(mine, unit);)
        unit_of(unit, n, items, enough, body);
    }
    return first_of(mine.word.load(std::memory_order_relaxed)) - begun;
  }
  template <class Body>
  static void unit_of(std::uint64_t unit, std::size_t n, std::size_t items, const Enough& enough, const Body& body) {
    const std::size_t first = unit * items;
    at_border();
    body(Range{first, items < n - first ? first + items : n}, enough);
  }

  // Where there are more pieces than 32 bits can number.
  template <class Body>
  std::size_t long_units(Share& mine, const Enough& enough, const Body& body) {
    const std::size_t items = split_.items();
    std::size_t pieces = 0;
    for (std::uint64_t unit = 0; !enough() && take_front(mine, unit);) {
      std::size_t first = unit * per_unit_ * items;
      for (std::size_t left = per_unit_; left > 0 && first < n_ && !enough(); --left, ++pieces) {
        const std::size_t last = items < n_ - first ? first + items : n_;
        at_border();
        body(Range{first, last}, enough);
        first = last;
      }
    }
    return pieces;
  }

  void deal() noexcept {
    const std::size_t pieces = (n_ - 1) / split_.items() + 1;
    per_unit_ = pieces / std::numeric_limits<std::uint32_t>::max() + 1;
    const std::size_t units = (pieces - 1) / per_unit_ + 1;
    for (std::size_t w = 0; w < workers_; ++w) {
      const Range mine = even_part(units, workers_, w);
      shares_[w].word.store(packed(mine.first, mine.last), std::memory_order_relaxed);
    }
  }

  static bool take_front(Share& share, std::uint64_t& unit) noexcept {
    std::uint64_t word = share.word.load(std::memory_order_relaxed);
    do {
      if (first_of(word) == last_of(word)) return false;
      unit = first_of(word);
    } while (!share.word.compare_exchange_weak(word, word + 1, std::memory_order_relaxed));
    return true;
  }

  // Moves the back half of the first share that has any into this worker's own, which is empty: nobody else writes to
  // an empty share.
  bool take_over(std::size_t me) noexcept {
    for (std::size_t step = 1; step < workers_; ++step) {
      Share& other = shares_[(me + step) % workers_];
      std::uint64_t word = other.word.load(std::memory_order_relaxed);
      while (first_of(word) != last_of(word)) {
        const std::uint64_t middle = first_of(word) + (last_of(word) - first_of(word)) / 2;
        if (other.word.compare_exchange_weak(word, packed(first_of(word), middle), std::memory_order_relaxed)) {
          at_border();
          shares_[me].word.store(packed(middle, last_of(word)), std::memory_order_relaxed);
          return true;
        }
      }
    }
    return false;
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
  Share* shares_;
  std::size_t per_unit_ = 1;
  alignas(line_bytes) std::atomic<std::size_t> next_{0};
};

}  // namespace antcrew::internal
