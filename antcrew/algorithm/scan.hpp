// Running totals: out[i] = in[0] ∘ in[1] ∘ … ∘ in[i] (inclusive), or start ∘ in[0] ∘ … ∘ in[i-1] (exclusive).
//
//   scan_inclusive(crew, rainfall, total);                       // sums
//   scan_inclusive(crew, rainfall, total, before);               // likewise, from `before` on
//   scan_exclusive(crew, lengths, offsets, std::size_t{0});      // where each begins
//
// `combine` must be associative. Totals are kept in the wider of what combine gives and what the output holds: one-byte
// flags are counted into std::size_t without overflow. Floating-point sums are rounded in one fixed way that depends on
// the length only: the same answer for every worker count and run. `out` may be `in` itself; one that is too short is
// refused (Error scan.output), untouched. An exception of `combine` comes out; `out` is then partly written. The crew
// is held from beginning to end. (Two passes over ranges: Ladner and Fischer 1980, "Parallel prefix computation", with
// the totals of the ranges added up by the caller.)
#pragma once

#include <cstddef>
#include <cstdint>
#include <functional>
#include <iterator>
#include <optional>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/algorithm/internal/over_items.hpp"
#include "antcrew/base/range.hpp"
#include "antcrew/crew/fixed_ranges.hpp"
#include "antcrew/crew/items.hpp"

namespace antcrew {

namespace internal {

template <class Sum, class Held>
struct WiderOf {
  using type = Held;
};
template <class Sum, class Held>
requires requires {
  typename std::common_type_t<Sum, Held>;
}
struct WiderOf<Sum, Held> {
  using type = std::common_type_t<Sum, Held>;
};

// What totals are kept in.
template <class Combine, class In, class Out>
using TotalOf =
    typename WiderOf<std::decay_t<std::invoke_result_t<Combine&, std::iter_value_t<In>, std::iter_value_t<In>>>,
                     std::iter_value_t<Out>>::type;

template <bool inclusive, class T, class Crew, class In, class Out, class Combine>
void scan(Crew& crew, In in, Out out, std::size_t n, std::optional<T> carry, Combine& combine) {
  using InStep = std::iter_difference_t<In>;
  using OutStep = std::iter_difference_t<Out>;
  using Held = std::iter_value_t<Out>;
  const std::size_t pieces = fixed_ranges(n);
  const EvenParts parts(n, pieces);
  const auto at = [&](std::size_t i) -> T { return static_cast<T>(in[static_cast<InStep>(i)]); };
  const auto joined = [&](const std::optional<T>& before, const T& more) -> T {
    return before ? static_cast<T>(combine(*before, more)) : more;
  };
  const auto total = [&](std::size_t piece) {
    const Range range = parts[piece];
    T sum = at(range.first);
    for (std::size_t i = range.first + 1; i < range.last; ++i) sum = static_cast<T>(combine(std::move(sum), at(i)));
    return sum;
  };
  const auto put = [&](std::size_t i, std::optional<T>& so_far, const T& item) {
    T next = joined(so_far, item);
    if constexpr (inclusive) {
      out[static_cast<OutStep>(i)] = static_cast<Held>(next);
    } else {
      out[static_cast<OutStep>(i)] = static_cast<Held>(std::move(*so_far));
    }
    so_far = std::move(next);
  };
  // The caller alone reads each item once; the total stays apart, so that sums are rounded as by many workers. Sums of
  // whole numbers are not rounded.
  constexpr bool exact =
      std::is_integral_v<T> && (std::is_same_v<Combine, std::plus<>> || std::is_same_v<Combine, std::plus<T>>);
  // Adding up a few thousand of them where they lie takes less than waking anybody, whatever they are.
  constexpr std::size_t surely_little = 4'096;
  const bool little = exact && std::contiguous_iterator<In> && n <= surely_little;
  const auto alone = [&](std::size_t piece) {
    const Range range = parts[piece];
    if constexpr (exact) {
      T so_far = carry.value_or(T{});
      for (std::size_t i = range.first; i < range.last; ++i) {
        const T next = static_cast<T>(so_far + at(i));
        out[static_cast<OutStep>(i)] = static_cast<Held>(inclusive ? next : so_far);
        so_far = next;
      }
      carry = so_far;
      return;
    }
    std::optional<T> so_far = carry;
    T sum = at(range.first);
    put(range.first, so_far, sum);
    for (std::size_t i = range.first + 1; i < range.last; ++i) {
      const T item = at(i);
      put(i, so_far, item);
      sum = static_cast<T>(combine(std::move(sum), item));
    }
    carry = joined(carry, sum);
  };
  const std::size_t done =
      crew.first_steps(pieces, n, alone, little ? static_cast<std::uint16_t>(pieces) : std::uint16_t{1});
  if (done == pieces) return;
  std::vector<std::optional<T>> before(pieces - done);
  crew.each(before.size(), Crew::small_pieces(1), [&](std::size_t k) { before[k] = total(done + k); });
  for (std::optional<T>& sum : before) {
    T after = joined(carry, *sum);
    sum = std::exchange(carry, std::optional<T>(std::move(after)));
  }
  crew.each(before.size(), Crew::small_pieces(1), [&](std::size_t k) {
    std::optional<T> so_far = std::move(before[k]);
    for (const std::size_t i : parts[done + k]) put(i, so_far, at(i));
  });
}

// Throws Error (scan.output).
void refuse_short_output(const char* call, std::size_t in, std::size_t out);

template <bool inclusive, class Crew, class In, class Out, class T, class Combine>
void checked_scan(const char* call, Crew& crew, const In& in, Out& out, std::optional<T> start, Combine& combine,
                  const CallPlace& from) {
  using Place = decltype(std::begin(out));
  static_assert(
      HasPlaces<Place>,
      "scan: the output's items are proxies (std::vector<bool>?), neighbours of which cannot be written by two "
      "workers: use a vector of char");
  if constexpr (!HasPlaces<Place>) return;
  const HeldFrom<Crew> held(crew, from);
  if (std::size(out) < std::size(in)) refuse_short_output(call, std::size(in), std::size(out));
  scan<inclusive, T>(crew, std::begin(in), std::begin(out), std::size(in), std::move(start), combine);
}

}  // namespace internal

template <class Crew, internal::Items In, internal::Items Out, class Combine = std::plus<>>
requires std::invocable<Combine&, std::iter_value_t<decltype(std::begin(std::declval<const In&>()))>,
                        std::iter_value_t<decltype(std::begin(std::declval<const In&>()))>>
void scan_inclusive(Crew& crew, const In& in, Out&& out, Combine combine = {}, CallPlace at = CallPlace::here()) {
  using T = internal::TotalOf<Combine, decltype(std::begin(in)), decltype(std::begin(out))>;
  internal::checked_scan<true>("scan_inclusive", crew, in, out, std::optional<T>(), combine, at);
}

// From a start value on: out[i] = start ∘ in[0] ∘ … ∘ in[i].
template <class Crew, internal::Items In, internal::Items Out, class Start, class Combine = std::plus<>>
requires(!std::invocable<Start&, std::iter_value_t<decltype(std::begin(std::declval<const In&>()))>,
                         std::iter_value_t<decltype(std::begin(
                             std::declval<const In&>()))>>) void scan_inclusive(Crew& crew, const In& in, Out&& out,
                                                                                Start start, Combine combine = {},
                                                                                CallPlace at = CallPlace::here()) {
  using Sum = internal::TotalOf<Combine, decltype(std::begin(in)), decltype(std::begin(out))>;
  using T = typename internal::WiderOf<Start, Sum>::type;
  internal::checked_scan<true>("scan_inclusive", crew, in, out, std::optional<T>(static_cast<T>(std::move(start))),
                               combine, at);
}

template <class Crew, internal::Items In, internal::Items Out, class Start, class Combine = std::plus<>>
void scan_exclusive(Crew& crew, const In& in, Out&& out, Start start, Combine combine = {},
                    CallPlace at = CallPlace::here()) {
  using Sum = internal::TotalOf<Combine, decltype(std::begin(in)), decltype(std::begin(out))>;
  using T = typename internal::WiderOf<Start, Sum>::type;
  internal::checked_scan<false>("scan_exclusive", crew, in, out, std::optional<T>(static_cast<T>(std::move(start))),
                                combine, at);
}

}  // namespace antcrew
