// The loops that crews share, written once over the crew's own way of handing out pieces.
//
// A crew derives from Loops<itself, Split or Grain> and offers
//   pieces(n, how, stop, PieceBody, place): calls the body for pieces that together are 0 … n-1; in a source file;
//   small_pieces(k): the split or grain that hands out k indices at a time.
#pragma once

#include <concepts>
#include <cstddef>
#include <iterator>
#include <optional>
#include <span>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/base/enough.hpp"
#include "antcrew/base/range.hpp"
#include "antcrew/crew/fixed_ranges.hpp"
#include "antcrew/crew/internal/fill.hpp"
#include "antcrew/crew/internal/mistakes.hpp"
#include "antcrew/crew/internal/piece_body.hpp"
#include "antcrew/crew/internal/results.hpp"
#include "antcrew/crew/internal/scratch.hpp"
#include "antcrew/crew/items.hpp"
#include "antcrew/crew/tile.hpp"
#include "antcrew/log/place.hpp"

namespace antcrew {

namespace internal {

template <class Crew, class How>
class Loops {
 public:
  // body(Range) for pieces that together are 0 … n-1, each index once.
  template <class Body>
  void ranges(std::size_t n, How how, Body&& body, const AnyStopToken& stop = no_stop,
              CallPlace at = CallPlace::here()) {
    if constexpr (takes_range<Body>()) {
      self().pieces(n, how, stop, {&range_piece<std::remove_reference_t<Body>>, address_of(body)}, at);
    }
  }
  template <class Body>
  void ranges(std::size_t n, Body&& body, CallPlace at = CallPlace::here()) {
    ranges(n, Crew::usual, body, no_stop, at);
  }

  // body(std::span) for stretches that together are all of the contiguous items.
  template <Items All, class Body>
  void ranges(All&& items, How how, Body&& body, const AnyStopToken& stop = no_stop, CallPlace at = CallPlace::here()) {
    const std::span all(items);
    ranges(
        all.size(), how, [&](Range range) { body(all.subspan(range.first, range.size())); }, stop, at);
  }
  template <Items All, class Body>
  void ranges(All&& items, Body&& body, CallPlace at = CallPlace::here()) {
    ranges(items, Crew::usual, body, no_stop, at);
  }

  // body(i) for every i of 0 … n-1.
  template <class Body>
  void each(std::size_t n, How how, Body&& body, const AnyStopToken& stop = no_stop, CallPlace at = CallPlace::here()) {
    if constexpr (takes_index<Body>()) {
      self().pieces(n, how, stop, {&each_block<std::remove_reference_t<Body>>, address_of(body), true}, at);
    }
  }
  template <class Body>
  void each(std::size_t n, Body&& body, CallPlace at = CallPlace::here()) {
    each(n, Crew::usual, body, no_stop, at);
  }

  // The same for n pieces of so many items, where all of it may take less than waking somebody: the first few are done
  // by the caller alone.
  template <class Body>
  void steps(std::size_t n, std::size_t items, How how, Body&& body, const AnyStopToken& stop = no_stop,
             CallPlace at = CallPlace::here()) {
    self().pieces(n, how, stop,
                  {&each_block<std::remove_reference_t<Body>>, address_of(body), true, items > Alone::most_shared}, at);
  }
  // Only those first few, one after the other. Returns how many were done: none of few items, or when a log is open.
  template <class Body>
  std::size_t first_steps(std::size_t n, std::size_t items, Body&& body, CallPlace at = CallPlace::here()) {
    std::size_t done = 0;
    auto counted = [&](Range block, const Enough&) {
      for (std::size_t i = block.first; i < block.last; ++i) {
        body(i);
        ++done;
      }
    };
    PieceBody first = piece_body(counted, true);
    first.perhaps_small = items > Alone::most_shared;
    first.only_first = true;
    self().pieces(n, Crew::small_pieces(1), no_stop, first, at);
    return done;
  }

  // body(*at) for every element of [first, last).
  template <std::random_access_iterator At, class Body>
  void each(At first, At last, How how, Body&& body, const AnyStopToken& stop = no_stop,
            CallPlace at = CallPlace::here()) {
    static_assert(HasPlaces<At>,
                  "each: these items are proxies (std::vector<bool>?), neighbours of which cannot be written by two "
                  "workers: use a vector of char");
    using Step = std::iter_difference_t<At>;
    each(
        static_cast<std::size_t>(last - first), how, [&](std::size_t i) { body(first[static_cast<Step>(i)]); }, stop,
        at);
  }
  template <std::random_access_iterator At, class Body>
  void each(At first, At last, Body&& body, CallPlace at = CallPlace::here()) {
    each(first, last, Crew::usual, body, no_stop, at);
  }

  // body(item) for every item.
  template <Items All, class Body>
  void each(All&& items, How how, Body&& body, const AnyStopToken& stop = no_stop, CallPlace at = CallPlace::here()) {
    each(std::begin(items), std::end(items), how, body, stop, at);
  }
  template <Items All, class Body>
  void each(All&& items, Body&& body, CallPlace at = CallPlace::here()) {
    each(std::begin(items), std::end(items), Crew::usual, body, no_stop, at);
  }

  // fn(i) for every i, in order, in memory first touched by the worker that fills it. Throws Error (crew.stopped) when
  // a stop request left a part unfilled.
  template <class Fn>
  auto collect(std::size_t n, How how, Fn&& fn, const AnyStopToken& stop = no_stop, CallPlace at = CallPlace::here()) {
    if constexpr (makes_items<Fn>()) {
      using T = std::decay_t<std::invoke_result_t<Fn&, std::size_t>>;
      Filler<T> filler(n);
      auto filling = [&](Range range, const Enough& enough) { filler.fill(range, enough, fn); };
      self().pieces(n, how, stop, piece_body(filling, Filler<T>::may_cut), at);
      refuse_half(stop, "collect");
      return std::move(filler).finished();
    } else {
      return AfterMistake();
    }
  }
  template <class Fn>
  auto collect(std::size_t n, Fn&& fn, CallPlace at = CallPlace::here()) {
    return collect(n, Crew::usual, fn, no_stop, at);
  }

  // combine(… combine(combine(start, a), b) …) of per_range's results, in index order. The borders of the ranges depend
  // on n only, one range for each of few items: the same answer for every worker count, split and run, also in floating
  // point. `how` is counted in ranges. n = 0 gives start. Throws Error (crew.stopped) when a stop request left a part
  // out.
  template <class Start, class PerRange, class Combine>
  auto fold(std::size_t n, How how, Start start, PerRange&& per_range, Combine&& combine,
            const AnyStopToken& stop = no_stop, CallPlace at = CallPlace::here()) {
    if constexpr (makes_parts<PerRange>()) {
      using T = std::decay_t<std::invoke_result_t<PerRange&, Range>>;
      const std::size_t pieces = fixed_ranges(n);
      std::vector<std::optional<T>> partial(pieces);
      const EvenParts parts(n, pieces);
      const auto one = [&, parts](std::size_t k) { partial[k].emplace(per_range(parts[k])); };
      steps(pieces, n, how, one, stop, at);
      refuse_half(stop, "fold");
      for (std::optional<T>& part : partial) start = combine(std::move(start), std::move(*part));
    }
    return start;
  }
  template <class Start, class PerRange, class Combine>
  requires(!std::is_same_v<std::decay_t<Start>, How>) auto fold(std::size_t n, Start start, PerRange&& per_range,
                                                                Combine&& combine, const AnyStopToken& stop = no_stop,
                                                                CallPlace at = CallPlace::here()) {
    return fold(n, Crew::small_pieces(1), std::move(start), per_range, combine, stop, at);
  }

  // The same over contiguous items: per_range(std::span).
  template <Items All, class Start, class PerRange, class Combine>
  auto fold(All&& items, How how, Start start, PerRange&& per_range, Combine&& combine,
            const AnyStopToken& stop = no_stop, CallPlace at = CallPlace::here()) {
    const std::span all(items);
    const auto of = [&](Range range) { return per_range(all.subspan(range.first, range.size())); };
    return fold(all.size(), how, std::move(start), of, combine, stop, at);
  }
  template <Items All, class Start, class PerRange, class Combine>
  requires(!std::is_same_v<std::decay_t<Start>, How>) auto fold(All&& items, Start start, PerRange&& per_range,
                                                                Combine&& combine, const AnyStopToken& stop = no_stop,
                                                                CallPlace at = CallPlace::here()) {
    return fold(items, Crew::small_pieces(1), std::move(start), per_range, combine, stop, at);
  }

  // body(Tile) for tiles that together are all of rows × columns. `how` is counted in tiles.
  template <class Body>
  void tiles(std::size_t rows, std::size_t columns, TileSize size, How how, Body&& body,
             const AnyStopToken& stop = no_stop, CallPlace at = CallPlace::here()) {
    const Tiling tiling(rows, columns, size);
    auto in_tiles = [&](Range range, const Enough& enough) {
      for (std::size_t k = range.first; k < range.last && !enough(); ++k) body(tiling.at(k));
    };
    self().pieces(tiling.count(), how, stop, piece_body(in_tiles), at);
  }
  template <class Body>
  void tiles(std::size_t rows, std::size_t columns, TileSize size, Body&& body, CallPlace at = CallPlace::here()) {
    tiles(rows, columns, size, Crew::small_pieces(1), body, no_stop, at);
  }
  template <class Body>
  void tiles(std::size_t rows, std::size_t columns, Body&& body, CallPlace at = CallPlace::here()) {
    tiles(rows, columns, TileSize{}, Crew::small_pieces(1), body, no_stop, at);
  }

  // body(i, value) for every i of 0 … n-1, and body(range, value): value is the worker's own, made by make() when the
  // worker takes its first piece in this call, and gone with the call. For buffers that are expensive to make.
  template <class Make, class Body>
  void each_with(Make&& make, std::size_t n, How how, Body&& body, const AnyStopToken& stop = no_stop,
                 CallPlace at = CallPlace::here()) {
    Scratch<std::decay_t<std::invoke_result_t<Make&>>> scratch(self().workers());
    auto with_its_own = [&](Range block, const Enough&) {
      auto& mine = scratch.mine(make);
      for (std::size_t i = block.first; i < block.last; ++i) body(i, mine);
    };
    self().pieces(n, how, stop, piece_body(with_its_own, true), at);
  }
  template <class Make, class Body>
  void each_with(Make&& make, std::size_t n, Body&& body, CallPlace at = CallPlace::here()) {
    each_with(make, n, Crew::usual, body, no_stop, at);
  }
  template <class Make, class Body>
  void ranges_with(Make&& make, std::size_t n, How how, Body&& body, const AnyStopToken& stop = no_stop,
                   CallPlace at = CallPlace::here()) {
    Scratch<std::decay_t<std::invoke_result_t<Make&>>> scratch(self().workers());
    auto with_its_own = [&](Range range, const Enough&) { body(range, scratch.mine(make)); };
    self().pieces(n, how, stop, piece_body(with_its_own), at);
  }
  template <class Make, class Body>
  void ranges_with(Make&& make, std::size_t n, Body&& body, CallPlace at = CallPlace::here()) {
    ranges_with(make, n, Crew::usual, body, no_stop, at);
  }

 private:
  template <class Body>
  static void range_piece(void* body, Range range, const Enough&) {
    object_at<Body>(body)(range);
  }
  template <class Body>
  static void each_block(void* its_body, Range block, const Enough&) {
    Body& body = object_at<Body>(its_body);
    for (std::size_t i = block.first; i < block.last; ++i) body(i);
  }
  Crew& self() noexcept { return static_cast<Crew&>(*this); }
};

}  // namespace internal
}  // namespace antcrew
