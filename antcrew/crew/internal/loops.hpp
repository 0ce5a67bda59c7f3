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
#include "antcrew/crew/internal/counted_loop.hpp"
#include "antcrew/crew/internal/fill.hpp"
#include "antcrew/crew/internal/gathered.hpp"
#include "antcrew/crew/internal/loop_options.hpp"
#include "antcrew/crew/internal/mistakes.hpp"
#include "antcrew/crew/internal/piece_body.hpp"
#include "antcrew/crew/internal/results.hpp"
#include "antcrew/crew/internal/scratch.hpp"
#include "antcrew/crew/items.hpp"
#include "antcrew/crew/loop_fault.hpp"
#include "antcrew/crew/loop_progress.hpp"
#include "antcrew/crew/strided_range.hpp"
#include "antcrew/crew/tile.hpp"
#include "antcrew/log/place.hpp"

namespace antcrew {

namespace internal {

template <class Crew, class How>
class Loops {
 public:
  using Options = LoopOptions<How>;

  // Loops return how many items were done: all, unless a stop token ended them. A deadline throws Error
  // (crew.loop_deadline) where it left something out. Pieces that have begun come to their end.

  // body(Range) for pieces that together are 0 … n-1, each index once.
  template <class Body>
  std::size_t ranges(std::size_t n, Body&& body, const Options& options = as_usual<How>,
                     CallPlace at = CallPlace::here()) {
    if constexpr (takes_range<Body>()) {
      return run("ranges", n, usual_of(options), options,
                 {&range_piece<std::remove_reference_t<Body>>, address_of(body)}, at);
    } else {
      return AfterMistake();
    }
  }

  // body(std::span) for stretches that together are all of the contiguous items.
  template <Items All, class Body>
  std::size_t ranges(All&& items, Body&& body, const Options& options = as_usual<How>,
                     CallPlace at = CallPlace::here()) {
    const std::span all(items);
    return ranges(
        all.size(), [&](Range range) { body(all.subspan(range.first, range.size())); }, options, at);
  }

  // body(i) for every i of 0 … n-1.
  template <class Body>
  std::size_t each(std::size_t n, Body&& body, const Options& options = as_usual<How>,
                   CallPlace at = CallPlace::here()) {
    if constexpr (takes_index<Body>()) {
      return run("each", n, usual_of(options), options,
                 {&each_block<std::remove_reference_t<Body>>, address_of(body), true}, at);
    } else {
      return AfterMistake();
    }
  }
  // body(i) for every index of the stretch that is not left out.
  template <class Body>
  std::size_t each(StridedRange indices, Body&& body, const Options& options = as_usual<How>,
                   CallPlace at = CallPlace::here()) {
    return each(
        indices.size(), [&body, indices](std::size_t k) { body(indices[k]); }, options, at);
  }

  // The same for n pieces of so many items, where all of it may take less than waking somebody: the first few are done
  // by the caller alone.
  template <class Body>
  void steps(std::size_t n, std::size_t items, How how, Body&& body, const AnyStopToken& stop = no_stop,
             CallPlace at = CallPlace::here()) {
    self().pieces(n, how, stop, step_body(items, body), at);
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
  std::size_t each(At first, At last, Body&& body, const Options& options = as_usual<How>,
                   CallPlace at = CallPlace::here()) {
    static_assert(HasPlaces<At>,
                  "each: these items are proxies (std::vector<bool>?), neighbours of which cannot be written by two "
                  "workers: use a vector of char");
    using Step = std::iter_difference_t<At>;
    // Copies of the borders stay in registers: what the body writes could not have changed them.
    auto on_items = [first, &body](Range block, const Enough&) {
      const At end = first + static_cast<Step>(block.last);
      At item = first + static_cast<Step>(block.first);
      try {
        for (; item != end; ++item) body(*item);
      } catch (...) {
        const auto i = static_cast<std::size_t>(item - first);
        note_fault({i, i + 1});
        throw;
      }
    };
    return run("each", static_cast<std::size_t>(last - first), usual_of(options), options, piece_body(on_items, true),
               at);
  }
  // The same where iterators only go on: each worker gathers some at a time. Split and grain are not looked at.
  template <std::forward_iterator At, class Body>
  requires(!std::random_access_iterator<At>) std::size_t
      each(At first, At last, Body&& body, const Options& options = as_usual<How>, CallPlace at = CallPlace::here()) {
    GatheredRange<At> gathered(first, last);
    return run_gathered("each", gathered, body, options, at);
  }

  // body(item) for every item.
  template <class All, class Body>
  requires(Items<All> || ForwardItems<All>) std::size_t
      each(All&& items, Body&& body, const Options& options = as_usual<How>, CallPlace at = CallPlace::here()) {
    return each(std::begin(items), std::end(items), body, options, at);
  }

  // body(item) for every item that next() gives, a std::optional that is empty at the end: one worker at a time asks
  // it, for some items at once. What it throws comes out, after what it gave before has been worked on.
  template <class Next, class Body>
  std::size_t each_from(Next&& next, Body&& body, const Options& options = as_usual<How>,
                        CallPlace at = CallPlace::here()) {
    GatheredCalls<std::remove_reference_t<Next>> gathered(next);
    return run_gathered("each_from", gathered, body, options, at);
  }

  // fn(i) for every i, in order, in memory first touched by the worker that fills it. Throws Error (crew.stopped) when
  // a stop request left a part unfilled.
  template <class Fn>
  auto collect(std::size_t n, Fn&& fn, const Options& options = as_usual<How>, CallPlace at = CallPlace::here()) {
    if constexpr (makes_items<Fn>()) {
      using T = std::decay_t<std::invoke_result_t<Fn&, std::size_t>>;
      Filler<T> filler(n);
      auto filling = [&](Range range, const Enough& enough) { filler.fill(range, enough, fn); };
      refuse_half(run("collect", n, usual_of(options), options,
                      piece_body(filling, Filler<T>::may_cut, !Filler<T>::may_cut), at),
                  n, "collect");
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
      const auto one = [&, parts](std::size_t k) {
        try {
          partial[k].emplace(per_range(parts[k]));
        } catch (...) {
          note_fault(parts[k]);
          throw;
        }
      };
      refuse_half(run("fold", pieces, single_of(options), options, step_body(n, one), at), pieces, "fold");
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
  std::size_t tiles(std::size_t rows, std::size_t columns, TileSize size, Body&& body,
                    const Options& options = as_usual<How>, CallPlace at = CallPlace::here()) {
    return run_tiles(Tiling(rows, columns, size), body, options, at);
  }
  template <class Body>
  std::size_t tiles(std::size_t rows, std::size_t columns, Body&& body, const Options& options = as_usual<How>,
                    CallPlace at = CallPlace::here()) {
    return tiles(rows, columns, TileSize{}, body, options, at);
  }
  // The same of planes × rows × columns: body(Tile3).
  template <class Body>
  std::size_t tiles(std::size_t planes, std::size_t rows, std::size_t columns, TileSize3 size, Body&& body,
                    const Options& options = as_usual<How>, CallPlace at = CallPlace::here()) {
    return run_tiles(Tiling3(planes, rows, columns, size), body, options, at);
  }

  // body(i, value) for every i of 0 … n-1, and body(range, value): value is the worker's own, made by make() when the
  // worker takes its first piece in this call, and gone with the call. For buffers that are expensive to make.
  template <class Make, class Body>
  std::size_t each_with(Make&& make, std::size_t n, Body&& body, const Options& options = as_usual<How>,
                        CallPlace at = CallPlace::here()) {
    Scratch<std::decay_t<std::invoke_result_t<Make&>>> scratch(self().workers());
    auto with_its_own = [&](Range block, const Enough&) {
      auto& mine = scratch.mine(make);
      auto with_it = [&](std::size_t i) { body(i, mine); };
      each_index(block, with_it);
    };
    return run("each_with", n, usual_of(options), options, piece_body(with_its_own, true), at);
  }
  template <class Make, class Body>
  std::size_t ranges_with(Make&& make, std::size_t n, Body&& body, const Options& options = as_usual<How>,
                          CallPlace at = CallPlace::here()) {
    Scratch<std::decay_t<std::invoke_result_t<Make&>>> scratch(self().workers());
    auto with_its_own = [&](Range range, const Enough&) { body(range, scratch.mine(make)); };
    return run("ranges_with", n, usual_of(options), options, piece_body(with_its_own), at);
  }

  // As it was written before options had names: split or grain before the body, a stop token after it.
  template <class Over, class Body>
  std::size_t ranges(Over&& n, How how, Body&& body, const AnyStopToken& stop = no_stop,
                     CallPlace at = CallPlace::here()) {
    return ranges(count_or_items(n), body, Options{how, stop}, at);
  }
  template <class Over, class Body>
  std::size_t each(Over&& n, How how, Body&& body, const AnyStopToken& stop = no_stop,
                   CallPlace at = CallPlace::here()) {
    return each(count_or_items(n), body, Options{how, stop}, at);
  }
  template <std::random_access_iterator At, class Body>
  std::size_t each(At first, At last, How how, Body&& body, const AnyStopToken& stop = no_stop,
                   CallPlace at = CallPlace::here()) {
    return each(first, last, body, Options{how, stop}, at);
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
    return fold(count_or_items(n), std::move(start), per_range, combine, Options{{}, stop}, at);
  }
  template <class Body>
  std::size_t tiles(std::size_t rows, std::size_t columns, TileSize size, How how, Body&& body,
                    const AnyStopToken& stop = no_stop, CallPlace at = CallPlace::here()) {
    return tiles(rows, columns, size, body, Options{how, stop}, at);
  }
  template <class Make, class Body>
  std::size_t each_with(Make&& make, std::size_t n, How how, Body&& body, const AnyStopToken& stop = no_stop,
                        CallPlace at = CallPlace::here()) {
    return each_with(make, n, body, Options{how, stop}, at);
  }
  template <class Make, class Body>
  std::size_t ranges_with(Make&& make, std::size_t n, How how, Body&& body, const AnyStopToken& stop = no_stop,
                          CallPlace at = CallPlace::here()) {
    return ranges_with(make, n, body, Options{how, stop}, at);
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

  static bool as_it_is(const Options& options) noexcept {
    return !options.stop.stop_possible() && options.deadline_s == 0 && options.at_most == 0 &&
           options.progress == nullptr;
  }
  std::size_t run(const char* loop, std::size_t n, How how, const Options& options, const PieceBody& body,
                  const CallPlace& at) {
    if (!as_it_is(options)) [[unlikely]]
      return run_counted(loop, n, how, options, body, at);
    self().pieces(n, how, options.stop, body, at);
    return n;
  }
  [[gnu::noinline]] std::size_t run_counted(const char* loop, std::size_t n, How how, const Options& options,
                                            const PieceBody& body, const CallPlace& at) {
    CountedLoop counted(n, self().workers(), limits_of(options), loop);
    if (counted.for_some()) {
      const std::size_t piece = Options::piece(how, n, static_cast<int>(counted.strands()));
      self().pieces(n == 0 ? 0 : counted.strands(), Crew::usual, counted.stop(), counted.strand_body(body, piece), at);
    } else {
      self().pieces(n, how, counted.stop(), counted.body(body), at);
    }
    return counted.finish();
  }
  template <class Gathered, class Body>
  std::size_t run_gathered(const char* loop, Gathered& gathered, Body& body, const Options& options,
                           const CallPlace& at) {
    CountedLoop counted(CountedLoop::unknown, self().workers(), limits_of(options), loop);
    auto strand = [&](Range, const Enough& enough) { work_off(gathered, body, counted, enough); };
    self().pieces(counted.strands(), Crew::usual, counted.stop(), piece_body(strand), at);
    return counted.finish();
  }
  template <class All, class Body>
  std::size_t run_tiles(const All& tiling, Body& body, const Options& options, const CallPlace& at) {
    auto in_tiles = [&](Range range, const Enough& enough) {
      std::size_t k = range.first;
      try {
        for (; k < range.last && !enough(); ++k) body(tiling.at(k));
      } catch (...) {
        note_fault({k, k + 1});
        throw;
      }
    };
    return run("tiles", tiling.count(), single_of(options), options, piece_body(in_tiles, false, true), at);
  }
  static LoopLimits limits_of(const Options& options) noexcept {
    return {options.stop, options.deadline_s, options.at_most, options.progress};
  }

  template <class Body>
  static void range_piece(void* body, Range range, const Enough&) {
    try {
      object_at<Body>(body)(range);
    } catch (...) {
      note_fault(range);
      throw;
    }
  }
  template <class Body>
  static void each_block(void* its_body, Range block, const Enough&) {
    each_index(block, object_at<Body>(its_body));
  }
  template <class Body>
  static void each_index(Range block, Body& body) {
    std::size_t i = block.first;
    try {
      for (; i < block.last; ++i) body(i);
    } catch (...) {
      note_fault({i, i + 1});
      throw;
    }
  }
  template <class Body>
  static PieceBody step_body(std::size_t items, Body& body) noexcept {
    return {[](void* its_body, Range block, const Enough&) {
              auto& step = object_at<Body>(its_body);
              for (std::size_t k = block.first; k < block.last; ++k) step(k);
            },
            address_of(body), true, items > Alone::most_shared};
  }
  Crew& self() noexcept { return static_cast<Crew&>(*this); }
};

}  // namespace internal
}  // namespace antcrew
