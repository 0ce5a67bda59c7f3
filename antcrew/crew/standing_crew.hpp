// Workers that are processes forked once: a call costs little more than waking them, and each keeps to itself.
//
//   StandingCrew crew(4);
//   auto heights = crew.collect(n, [](std::size_t i, const std::vector<double>& at) { return tide_at(at[i]); }, at);
//   crew.fill(common, Split::even(), [](std::size_t i, const CommonArray<double>& from) { return 2 * from[i]; }, from);
//
// The workers do not see what the caller has written since they were forked. So a body is a function without state,
// which is checked when compiling, and whatever it needs is given after it: each argument is sent to every worker as
// bytes at each call (see transfer.hpp), a CommonArray only once and without copying. A body gets the index or range
// first, then the arguments. See docs/crews.md for when a ProcessCrew is the better choice.
//
// Faults and threads: as in a ProcessCrew, but that the workers stay; deadline_s ends a call, no stop token does. One
// that died or was killed is replaced at the next call, by a fork of the caller as it is then. They end with the crew,
// or when the caller's process ends.
#pragma once

#include <cstddef>
#include <tuple>
#include <type_traits>

#include "antcrew/crew/common_array.hpp"
#include "antcrew/crew/internal/processes/process_loops.hpp"

namespace antcrew {

// A lambda without captures, or another type whose objects are all the same.
template <class Fn>
concept Stateless = std::is_empty_v<std::decay_t<Fn>> && std::is_default_constructible_v<std::decay_t<Fn>>;

namespace internal {

// A body for workers that were forked before: called with an index or a range, then the arguments.
template <class Fn, class First, class... Arguments>
constexpr bool sent_to_standing() {
  constexpr bool stateless = Stateless<Fn>;
  static_assert(
      stateless,
      "the body of a standing crew captures something, which its workers, forked before, cannot see: give it as "
      "an argument after the body, or use a ProcessCrew");
  constexpr bool arguments_travel = (Travels<Arguments> && ...);
  static_assert(
      !stateless || arguments_travel,
      "an argument of the body does not travel between processes (it has pointers, perhaps, as a span, a view, an "
      "iterator and a function have): the top of "
      "antcrew/crew/transfer.hpp says what does, and how to teach it to a type");
  if constexpr (stateless && arguments_travel) {
    constexpr bool callable = std::invocable<Fn&, First, const Arguments&...>;
    static_assert(
        callable,
        "the body of a standing crew is called with an index or, in fold(), a Range, and then its arguments as "
        "const: what it wrote to them would stay in the worker (a CommonArray is written by fill())");
    if constexpr (callable) {
      using T = std::decay_t<std::invoke_result_t<Fn&, First, const Arguments&...>>;
      constexpr bool value = !std::is_void_v<T>;
      static_assert(value, "the body returns nothing: it must return its item or the result of its range");
      if constexpr (value) {
        static_assert(Travels<T>,
                      "what the body returns does not travel between processes (it has pointers, perhaps): the top of "
                      "antcrew/crew/transfer.hpp says what does, and how to teach it to a type");
        return Travels<T>;
      }
    }
  }
  return false;
}

}  // namespace internal

class StandingCrew {
 public:
  // Forks the workers. Throws Error (crew.workers, crew.options, crew.start).
  explicit StandingCrew(int workers, const CrewOptions& options = {}) : team_(workers, options) {}

  static constexpr const char* crew_name = "StandingCrew";
  int workers() const noexcept { return team_.workers(); }
  const CrewFacts& facts() const noexcept { return team_.facts(); }
  // Since the crew was made. Between calls.
  MovedData moved() const { return team_.moved(); }

  // fn(i, arguments…) for every i, in order. Its type and the arguments' must travel.
  template <class Fn, class... Arguments>
  auto collect(std::size_t n, Split split, Fn, const Arguments&... arguments) {
    if constexpr (internal::sent_to_standing<Fn, std::size_t, Arguments...>()) {
      using T = std::decay_t<std::invoke_result_t<Fn&, std::size_t, const Arguments&...>>;
      return collected<T>(n, split, team_.facts().asked.processes.way, work_for<T, Fn, Arguments...>(), arguments...);
    } else {
      return internal::AfterMistake();
    }
  }
  template <class Fn, class... Arguments>
  requires(!std::is_same_v<Fn, Split>) auto collect(std::size_t n, Fn fn, const Arguments&... arguments) {
    return collect(n, Split::even(), fn, arguments...);
  }

  // per_range(range, arguments…), combined in the caller, in index order; the borders depend on n only.
  template <class Start, class PerRange, class Combine, class... Arguments>
  auto fold(std::size_t n, Start start, PerRange, Combine&& combine, const Arguments&... arguments) {
    if constexpr (internal::sent_to_standing<PerRange, Range, Arguments...>()) {
      using T = std::decay_t<std::invoke_result_t<PerRange&, Range, const Arguments&...>>;
      struct OfPiece {
        T operator()(std::size_t k, const std::size_t& all, const std::size_t& pieces,
                     const Arguments&... given) const {
          return PerRange()(even_part(all, pieces, k), given...);
        }
      };
      const std::size_t pieces = internal::fixed_ranges(n);
      auto parts = collect(pieces, Split::chunks(1), OfPiece(), n, pieces, arguments...);
      for (auto& part : parts) start = combine(std::move(start), std::move(part));
    }
    return start;
  }

  // array[i] = fn(i, arguments…), in memory that all have mapped.
  template <class T, class Fn, class... Arguments>
  void fill(CommonArray<T>& array, Split split, Fn, const Arguments&... arguments) {
    if constexpr (internal::sent_to_standing<Fn, std::size_t, Arguments...>()) {
      internal::RegionOrder region = internal::order_for<char>(array.size(), split, Way::copied, workers());
      region.work = [](internal::WorkerSide& side) {
        auto given = side.arguments<std::tuple<CommonArray<T>, Arguments...>>();
        auto body = [&](std::size_t i) {
          return std::apply([&](CommonArray<T>&, const auto&... rest) { return static_cast<T>(Fn()(i, rest...)); },
                            given);
        };
        internal::fill_items<T>(side, std::get<0>(given).data(), body);
      };
      internal::NothingComesBack sink;
      run(region, sink, array, arguments...);
    }
  }
  template <class T, class Fn, class... Arguments>
  requires(!std::is_same_v<Fn, Split>) void fill(CommonArray<T>& array, Fn fn, const Arguments&... arguments) {
    fill(array, Split::even(), fn, arguments...);
  }

 private:
  using Work = void (*)(internal::WorkerSide&);

  template <class T, class Fn, class... Arguments>
  static Work work_for() {
    return [](internal::WorkerSide& side) {
      const auto given = side.arguments<std::tuple<Arguments...>>();
      auto body = [&](std::size_t i) {
        return std::apply([&](const auto&... all) -> T { return std::decay_t<Fn>()(i, all...); }, given);
      };
      internal::make_items<T>(side, body);
    };
  }

  template <class T, class... Arguments>
  Column<T> collected(std::size_t n, Split split, Way way, Work work, const Arguments&... arguments) {
    const auto order = internal::order_for<T>(n, split, team_.granted(way), workers());
    return internal::column_from<T>(order, internal::no_stop, [&](internal::RegionOrder region, internal::Sink& sink) {
      region.work = work;
      run(region, sink, arguments...);
    });
  }

  template <class... Arguments>
  void run(internal::RegionOrder region, internal::Sink& sink, const Arguments&... arguments) {
    Packer packed;
    (packed.put(arguments), ...);
    region.arguments = &packed;
    team_.run(region, sink, internal::no_stop);
  }

  internal::StandingTeam team_;
};

}  // namespace antcrew
