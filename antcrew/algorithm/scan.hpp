// Running totals: out[i] = in[0] ∘ in[1] ∘ … ∘ in[i] (inclusive), or start ∘ in[0] ∘ … ∘ in[i-1] (exclusive).
//
//   scan_inclusive(crew, rainfall, total);                       // sums
//   scan_exclusive(crew, lengths, offsets, std::size_t{0});      // where each begins
//
// `combine` must be associative; floating-point sums are rounded in one fixed way that depends on the length only: the
// same answer for every worker count and run. `out` has room for as many as `in` and may be `in` itself. An exception
// of `combine` comes out; `out` is then partly written. (Two passes over pieces: Ladner and Fischer 1980, "Parallel
// prefix computation", with the totals of the pieces added up by the caller.)
#pragma once

#include <algorithm>
#include <cassert>
#include <cstddef>
#include <functional>
#include <iterator>
#include <optional>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/items.hpp"

namespace antcrew {

namespace internal {

// Small enough that a lone worker finds a piece in its cache the second time, and levels unequal ones.
inline constexpr std::size_t most_scan_pieces = 512;

template <bool inclusive, class T, class Crew, class In, class Out, class Combine>
void scan(Crew& crew, In in, Out out, std::size_t n, std::optional<T> carry, Combine& combine) {
  using InStep = std::iter_difference_t<In>;
  using OutStep = std::iter_difference_t<Out>;
  const std::size_t pieces = std::min(n, most_scan_pieces);
  const auto joined = [&](const std::optional<T>& before, const T& more) -> T {
    return before ? T(combine(*before, more)) : more;
  };
  const auto total = [&](std::size_t piece) {
    const Range range = even_part(n, pieces, piece);
    T sum = in[static_cast<InStep>(range.first)];
    for (std::size_t i = range.first + 1; i < range.last; ++i)
      sum = combine(std::move(sum), in[static_cast<InStep>(i)]);
    return sum;
  };
  const auto write = [&](std::size_t piece, std::optional<T> so_far) {
    for (const std::size_t i : even_part(n, pieces, piece)) {
      T next = joined(so_far, in[static_cast<InStep>(i)]);
      if constexpr (inclusive) {
        out[static_cast<OutStep>(i)] = next;
      } else {
        out[static_cast<OutStep>(i)] = std::move(*so_far);
      }
      so_far = std::move(next);
    }
  };
  if (crew.workers() == 1) {
    for (std::size_t piece = 0; piece < pieces; ++piece) {
      T sum = total(piece);
      T after = joined(carry, sum);
      write(piece, std::move(carry));
      carry = std::move(after);
    }
    return;
  }
  std::vector<std::optional<T>> before(pieces);
  crew.each(pieces, Crew::small_pieces(4), [&](std::size_t piece) { before[piece] = total(piece); });
  for (std::optional<T>& sum : before) {
    T after = joined(carry, *sum);
    sum = std::exchange(carry, std::optional<T>(std::move(after)));
  }
  crew.each(pieces, Crew::small_pieces(4), [&](std::size_t piece) { write(piece, std::move(before[piece])); });
}

}  // namespace internal

template <class Crew, Items In, Items Out, class Combine = std::plus<>>
void scan_inclusive(Crew& crew, const In& in, Out&& out, Combine combine = {}) {
  using T = std::decay_t<decltype(*std::begin(in))>;
  assert(std::size(out) >= std::size(in));
  internal::scan<true, T>(crew, std::begin(in), std::begin(out), std::size(in), std::optional<T>(), combine);
}

template <class Crew, Items In, Items Out, class T, class Combine = std::plus<>>
void scan_exclusive(Crew& crew, const In& in, Out&& out, T start, Combine combine = {}) {
  assert(std::size(out) >= std::size(in));
  internal::scan<false, T>(crew, std::begin(in), std::begin(out), std::size(in), std::optional<T>(std::move(start)),
                           combine);
}

}  // namespace antcrew
