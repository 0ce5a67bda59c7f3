// The loops that crews share, written once over the crew's own way of handing out pieces.
//
// A crew derives from Loops<itself, Split or Grain> and offers
//   pieces(n, how, stop, PieceBody, place): calls the body for pieces that together are 0 … n-1; in a source file;
//   small_pieces(k): the split or grain that hands out k indices at a time.
#pragma once

#include <concepts>
#include <cstddef>
#include <cstdint>
#include <iterator>
#include <optional>
#include <span>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/base/enough.hpp"
#include "antcrew/base/range.hpp"
#include "antcrew/crew/fixed_ranges.hpp"
#include "antcrew/crew/grain.hpp"
#include "antcrew/crew/internal/fill.hpp"
#include "antcrew/crew/internal/mistakes.hpp"
#include "antcrew/crew/internal/piece_body.hpp"
#include "antcrew/crew/internal/results.hpp"
#include "antcrew/crew/internal/scratch.hpp"
#include "antcrew/crew/items.hpp"
#include "antcrew/crew/split.hpp"
#include "antcrew/crew/tile.hpp"
#include "antcrew/log/place.hpp"

namespace antcrew {

namespace internal {

// How a loop is run, where it is not as usual, by name: crew.each(n, body, {.split = …, .stop = token}).
template <class How>
struct LoopOptions;
template <>
struct LoopOptions<Split> {
  std::optional<Split> split = {};  // none = as the loop says
  AnyStopToken stop = {};
  const std::optional<Split>& how() const noexcept { return split; }
};
template <>
struct LoopOptions<Grain> {
  std::optional<Grain> grain = {};
  AnyStopToken stop = {};
  const std::optional<Grain>& how() const noexcept { return grain; }
};
template <class How>
inline constinit const LoopOptions<How> as_usual{};

template <class Crew, class How>
class Loops {
 public:
  using Options = LoopOptions<How>;

  // body(Range) for pieces that together are 0 … n-1, each index once.
  template <class Body>
  void ranges(std::size_t n, Body&& body, const Options& options = as_usual<How>, CallPlace at = CallPlace::here()) {
    if constexpr (takes_range<Body>()) {
      self().pieces(n, usual_of(options), options.stop, {&range_piece<std::remove_reference_t<Body>>, address_of(body)},
                    at);
    }
  }

  // body(std::span) for stretches that together are all of the contiguous items.
  template <Items All, class Body>
  void ranges(All&& items, Body&& body, const Options& options = as_usual<How>, CallPlace at = CallPlace::here()) {
    const std::span all(items);
    ranges(
        all.size(), [&](Range range) { body(all.subspan(range.first, range.size())); }, options, at);
  }

  // body(i) for every i of 0 … n-1.
  template <class Body>
  void each(std::size_t n, Body&& body, const Options& options = as_usual<How>, CallPlace at = CallPlace::here()) {
    if constexpr (takes_index<Body>()) {
      self().pieces(n, usual_of(options), options.stop,
                    {&each_block<std::remove_reference_t<Body>>, address_of(body), true}, at);
    }
  }

  // The same for n pieces of so many items, where all of it may take less than waking somebody: the first few are done
  // by the caller alone.
  template <class Body>
  void steps(std::size_t n, std::size_t items, How how, Body&& body, const AnyStopToken& stop = no_stop,
             CallPlace at = CallPlace::here()) {
    self().pieces(n, how, stop,
                  {&each_block<std::remove_reference_t<Body>>, address_of(body), true, items > Alone::most_shared}, at);
  }
  // Only those first few, one after the other, the first `at_first` of them without a look at the clock. Returns how
  // many were done: none of few items, or when a log is open.
  template <class Body>
  std::size_t first_steps(std::size_t n, std::size_t items, Body&& body, std::uint16_t at_first = 1,
                          CallPlace at = CallPlace::here()) {
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
    first.at_first = at_first;
    self().pieces(n, Crew::small_pieces(at_first), no_stop, first, at);
    return done;
  }

  // body(*at) for every element of [first, last).
  template <std::random_access_iterator At, class Body>
  void each(At first, At last, Body&& body, const Options& options = as_usual<How>, CallPlace at = CallPlace::here()) {
    static_assert(HasPlaces<At>,
                  "each: these items are proxies (std::vector<bool>?), neighbours of which cannot be written by two "
                  "workers: use a vector of char");
    using Step = std::iter_difference_t<At>;
    // Copies of the borders stay in registers: what the body writes could not have changed them.
    auto on_items = [first, &body](Range block, const Enough&) {
      const At end = first + static_cast<Step>(block.last);
      for (At item = first + static_cast<Step>(block.first); item != end; ++item) body(*item);
    };
    self().pieces(static_cast<std::size_t>(last - first), usual_of(options), options.stop, piece_body(on_items, true),
                  at);
  }

  // body(item) for every item.
  template <Items All, class Body>
  void each(All&& items, Body&& body, const Options& options = as_usual<How>, CallPlace at = CallPlace::here()) {
    each(std::begin(items), std::end(items), body, options, at);
  }

  // fn(i) for every i, in order, in memory first touched by the worker that fills it. Throws Error (crew.stopped) when
  // a stop request left a part unfilled.
  template <class Fn>
  auto collect(std::size_t n, Fn&& fn, const Options& options = as_usual<How>, CallPlace at = CallPlace::here()) {
    if constexpr (makes_items<Fn>()) {
      using T = std::decay_t<std::invoke_result_t<Fn&, std::size_t>>;
      Filler<T> filler(n);
      auto filling = [&](Range range, const Enough& enough) { filler.fill(range, enough, fn); };
      self().pieces(n, usual_of(options), options.stop, piece_body(filling, Filler<T>::may_cut), at);
      refuse_half(options.stop, "collect");
      return std::move(filler).finished();
    } else {
      return AfterMistake();
    }
  }

  // combine(… combine(combine(start, a), b) …) of per_range's results, in index order. The borders of the ranges depend
  // on n only, one range for each of few items: the same answer for every worker count, split and run, also in floating
  // point. Split and grain are counted in ranges, usually one. n = 0 gives start. Throws Error (crew.stopped) when a
  // stop request left a part out.
  template <class Start, class PerRange, class Combine>
  requires(!std::is_same_v<std::decay_t<Start>, How>) auto fold(std::size_t n, Start start, PerRange&& per_range,
                                                                Combine&& combine,
                                                                const Options& options = as_usual<How>,
                                                                CallPlace at = CallPlace::here()) {
    if constexpr (makes_parts<PerRange>()) {
      using T = std::decay_t<std::invoke_result_t<PerRange&, Range>>;
      const std::size_t pieces = fixed_ranges(n);
      std::vector<std::optional<T>> partial(pieces);
      const EvenParts parts(n, pieces);
      const auto one = [&, parts](std::size_t k) { partial[k].emplace(per_range(parts[k])); };
      steps(pieces, n, single_of(options), one, options.stop, at);
      refuse_half(options.stop, "fold");
      for (std::optional<T>& part : partial) start = combine(std::move(start), std::move(*part));
    }
    return start;
  }

  // The same over contiguous items: per_range(std::span).
  template <Items All, class Start, class PerRange, class Combine>
  requires(!std::is_same_v<std::decay_t<Start>, How>) auto fold(All&& items, Start start, PerRange&& per_range,
                                                                Combine&& combine,
                                                                const Options& options = as_usual<How>,
                                                                CallPlace at = CallPlace::here()) {
    const std::span all(items);
    const auto of = [&](Range range) { return per_range(all.subspan(range.first, range.size())); };
    return fold(all.size(), std::move(start), of, combine, options, at);
  }

  // body(Tile) for tiles that together are all of rows × columns. Split and grain are counted in tiles, usually one.
  template <class Body>
  void tiles(std::size_t rows, std::size_t columns, TileSize size, Body&& body, const Options& options = as_usual<How>,
             CallPlace at = CallPlace::here()) {
    const Tiling tiling(rows, columns, size);
    auto in_tiles = [&](Range range, const Enough& enough) {
      for (std::size_t k = range.first; k < range.last && !enough(); ++k) body(tiling.at(k));
    };
    self().pieces(tiling.count(), single_of(options), options.stop, piece_body(in_tiles), at);
  }
  template <class Body>
  void tiles(std::size_t rows, std::size_t columns, Body&& body, const Options& options = as_usual<How>,
             CallPlace at = CallPlace::here()) {
    tiles(rows, columns, TileSize{}, body, options, at);
  }

  // body(i, value) for every i of 0 … n-1, and body(range, value): value is the worker's own, made by make() when the
  // worker takes its first piece in this call, and gone with the call. For buffers that are expensive to make.
  template <class Make, class Body>
  void each_with(Make&& make, std::size_t n, Body&& body, const Options& options = as_usual<How>,
                 CallPlace at = CallPlace::here()) {
    Scratch<std::decay_t<std::invoke_result_t<Make&>>> scratch(self().workers());
    auto with_its_own = [&](Range block, const Enough&) {
      auto& mine = scratch.mine(make);
      for (std::size_t i = block.first; i < block.last; ++i) body(i, mine);
    };
    self().pieces(n, usual_of(options), options.stop, piece_body(with_its_own, true), at);
  }
  template <class Make, class Body>
  void ranges_with(Make&& make, std::size_t n, Body&& body, const Options& options = as_usual<How>,
                   CallPlace at = CallPlace::here()) {
    Scratch<std::decay_t<std::invoke_result_t<Make&>>> scratch(self().workers());
    auto with_its_own = [&](Range range, const Enough&) { body(range, scratch.mine(make)); };
    self().pieces(n, usual_of(options), options.stop, piece_body(with_its_own), at);
  }

  // As it was written before options had names: split or grain before the body, a stop token after it.
  template <class Over, class Body>
  void ranges(Over&& n, How how, Body&& body, const AnyStopToken& stop = no_stop, CallPlace at = CallPlace::here()) {
    ranges(count_or_items(n), body, Options{how, stop}, at);
  }
  template <class Over, class Body>
  void each(Over&& n, How how, Body&& body, const AnyStopToken& stop = no_stop, CallPlace at = CallPlace::here()) {
    each(count_or_items(n), body, Options{how, stop}, at);
  }
  template <std::random_access_iterator At, class Body>
  void each(At first, At last, How how, Body&& body, const AnyStopToken& stop = no_stop,
            CallPlace at = CallPlace::here()) {
    each(first, last, body, Options{how, stop}, at);
  }
  template <class Fn>
  auto collect(std::size_t n, How how, Fn&& fn, const AnyStopToken& stop = no_stop, CallPlace at = CallPlace::here()) {
    return collect(n, fn, Options{how, stop}, at);
  }
  template <class Over, class Start, class PerRange, class Combine>
  auto fold(Over&& n, How how, Start start, PerRange&& per_range, Combine&& combine, const AnyStopToken& stop = no_stop,
            CallPlace at = CallPlace::here()) {
    return fold(count_or_items(n), std::move(start), per_range, combine, Options{how, stop}, at);
  }
  template <class Over, class Start, class PerRange, class Combine>
  requires(!std::is_same_v<std::decay_t<Start>, How>) auto fold(Over&& n, Start start, PerRange&& per_range,
                                                                Combine&& combine, const AnyStopToken& stop,
                                                                CallPlace at = CallPlace::here()) {
    return fold(count_or_items(n), std::move(start), per_range, combine, Options{std::nullopt, stop}, at);
  }
  template <class Body>
  void tiles(std::size_t rows, std::size_t columns, TileSize size, How how, Body&& body,
             const AnyStopToken& stop = no_stop, CallPlace at = CallPlace::here()) {
    tiles(rows, columns, size, body, Options{how, stop}, at);
  }
  template <class Make, class Body>
  void each_with(Make&& make, std::size_t n, How how, Body&& body, const AnyStopToken& stop = no_stop,
                 CallPlace at = CallPlace::here()) {
    each_with(make, n, body, Options{how, stop}, at);
  }
  template <class Make, class Body>
  void ranges_with(Make&& make, std::size_t n, How how, Body&& body, const AnyStopToken& stop = no_stop,
                   CallPlace at = CallPlace::here()) {
    ranges_with(make, n, body, Options{how, stop}, at);
  }

 private:
  template <class Over>
  static decltype(auto) count_or_items(Over& n) noexcept {
    if constexpr (std::integral<Over>) {
      return static_cast<std::size_t>(n);
    } else {
      return (n);
    }
  }
  static How usual_of(const Options& options) noexcept { return options.how().value_or(Crew::usual); }
  static How single_of(const Options& options) noexcept { return options.how().value_or(Crew::small_pieces(1)); }
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
