// The loops that crews share, written once over the crew's own way of handing out pieces.
//
// A crew derives from Loops<itself, Split or Grain> and offers
//   pieces(n, how, stop, on_piece): calls on_piece(Range, enough) for pieces that together are 0 … n-1;
//   small_pieces(k): the split or grain that hands out k indices at a time.
#pragma once

#include <algorithm>
#include <cstddef>
#include <functional>
#include <iterator>
#include <optional>
#include <span>
#include <stop_token>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/base/enough.hpp"
#include "antcrew/base/range.hpp"
#include "antcrew/crew/internal/fill.hpp"
#include "antcrew/crew/internal/results.hpp"
#include "antcrew/crew/items.hpp"

namespace antcrew {

namespace internal {

template <class Crew, class How>
class Loops {
 public:
  // body(Range) for pieces that together are 0 … n-1, each index once.
  template <class Body>
  void ranges(std::size_t n, How how, Body&& body, const std::stop_token& stop = {}) {
    self().pieces(n, how, stop, [&](Range range, const auto&) { body(range); });
  }
  template <class Body>
  void ranges(std::size_t n, Body&& body) {
    ranges(n, Crew::usual, body);
  }

  // body(std::span) for stretches that together are all of the contiguous items.
  template <Items All, class Body>
  void ranges(All&& items, How how, Body&& body, const std::stop_token& stop = {}) {
    const std::span all(items);
    ranges(
        all.size(), how, [&](Range range) { body(all.subspan(range.first, range.size())); }, stop);
  }
  template <Items All, class Body>
  void ranges(All&& items, Body&& body) {
    ranges(items, Crew::usual, body);
  }

  // body(i) for every i of 0 … n-1.
  template <class Body>
  void each(std::size_t n, How how, Body&& body, const std::stop_token& stop = {}) {
    self().pieces(n, how, stop, [&](Range range, const auto& enough) {
      in_blocks(range, enough, [&](Range block) {
        for (std::size_t i = block.first; i < block.last; ++i) body(i);
      });
    });
  }
  template <class Body>
  void each(std::size_t n, Body&& body) {
    each(n, Crew::usual, body);
  }

  // body(*at) for every element of [first, last).
  template <std::random_access_iterator At, class Body>
  void each(At first, At last, How how, Body&& body, const std::stop_token& stop = {}) {
    using Step = std::iter_difference_t<At>;
    each(
        static_cast<std::size_t>(last - first), how, [&](std::size_t i) { body(first[static_cast<Step>(i)]); }, stop);
  }
  template <std::random_access_iterator At, class Body>
  void each(At first, At last, Body&& body) {
    each(first, last, Crew::usual, body);
  }

  // body(item) for every item.
  template <Items All, class Body>
  void each(All&& items, How how, Body&& body, const std::stop_token& stop = {}) {
    each(std::begin(items), std::end(items), how, body, stop);
  }
  template <Items All, class Body>
  void each(All&& items, Body&& body) {
    each(std::begin(items), std::end(items), Crew::usual, body);
  }

  // fn(i) for every i, in order, in memory first touched by the worker that fills it. Throws Error (crew.stopped) when
  // a stop request left a part unfilled.
  template <class Fn>
  auto collect(std::size_t n, How how, Fn&& fn, const std::stop_token& stop = {}) {
    using T = std::decay_t<std::invoke_result_t<Fn&, std::size_t>>;
    Filler<T> filler(n);
    self().pieces(n, how, stop, [&](Range range, const auto& enough) { filler.fill(range, enough, fn); });
    refuse_half(stop, "collect");
    return std::move(filler).finished();
  }
  template <class Fn>
  auto collect(std::size_t n, Fn&& fn) {
    return collect(n, Crew::usual, fn);
  }

  // combine(… combine(combine(start, a), b) …) of per_range's results, in index order. The borders of the ranges depend
  // on n only: the same answer for every worker count and run, also in floating point. n = 0 gives start. Throws Error
  // (crew.stopped) when a stop request left a part out.
  template <class Start, class PerRange, class Combine>
  auto fold(std::size_t n, Start start, PerRange&& per_range, Combine&& combine, const std::stop_token& stop = {}) {
    using T = std::decay_t<std::invoke_result_t<PerRange&, Range>>;
    const std::size_t pieces = std::min(n, fold_pieces);
    std::vector<std::optional<T>> partial(pieces);
    const auto one = [&](std::size_t k) { partial[k].emplace(per_range(even_part(n, pieces, k))); };
    each(pieces, Crew::small_pieces(8), one, stop);
    refuse_half(stop, "fold");
    for (std::optional<T>& part : partial) start = combine(std::move(start), std::move(*part));
    return start;
  }

 private:
  Crew& self() noexcept { return static_cast<Crew&>(*this); }
};

}  // namespace internal
}  // namespace antcrew
