// Workers that are forked anew at each call: the body sees everything as it was at that moment, at no cost of copying.
//
//   ProcessCrew crew(4, {.processes = {.way = Way::zero_copy}});
//   Column<double> heights = crew.collect(n, [&](std::size_t i) { return tide_at(soundings[i]); });
//   crew.fill(common, [&](std::size_t i) { return tide_at(soundings[i]); }, {.split = Split::chunks(64)});
//
// What a body *returns* comes back; what it writes elsewhere stays in its process and is lost, but for CommonArrays and
// CommonCounters. So there are only loops that return. A fork costs some 0.1 ms and more with the caller's memory; see
// docs/crews.md for that, and for when a StandingCrew is the better choice. Worker 0 is a process, not the caller.
//
// Faults: a worker that throws ends the call with WorkerThrew; one that dies with ProcessDied, or, with retries, what
// it had not sent is done again by another one. When the call has ended, so have its processes, whatever happened;
// should the caller be killed, so are they.
// After the fork: a body may not use a ThreadCrew or TaskCrew made outside of it, whose threads stayed behind (Error
// crew.forked), nor a lock that another thread of the caller may hold just then. The standard library's allocation may
// be used. exit() and buffered output are not the body's: it must return.
// Threads: one at a time may call; a second one gets Error (crew.busy). A call inside a body on the same crew runs in
// that worker alone.
#pragma once

#include <concepts>
#include <cstddef>
#include <memory>
#include <optional>
#include <type_traits>
#include <utility>

#include "antcrew/crew/common_array.hpp"
#include "antcrew/crew/internal/processes/process_loops.hpp"

namespace antcrew {

namespace internal {

// How a loop is run, where it is not as usual, by name: crew.collect(n, fn, {.split = …, .way = …, .stop = token}).
struct ProcessLoopOptions {
  std::optional<Split> split = {};  // none = even; of fold, which counts it in ranges, one at a time
  std::optional<Way> way = {};      // back; none = the crew's own
  AnyStopToken stop = {};
};
inline constinit const ProcessLoopOptions process_loops_as_usual{};

}  // namespace internal

class ProcessCrew {
 public:
  using Options = internal::ProcessLoopOptions;

  // Throws Error (crew.workers, crew.options).
  explicit ProcessCrew(int workers, const CrewOptions& options = {}) : team_(workers, options) {}

  static constexpr const char* crew_name = "ProcessCrew";
  int workers() const noexcept { return team_.workers(); }
  const CrewFacts& facts() const noexcept { return team_.facts(); }
  // Since the crew was made. Between calls.
  MovedData moved() const { return team_.moved(); }

  // fn(i) for every i, in order. Its type must travel (see transfer.hpp).
  template <class Fn>
  auto collect(std::size_t n, Fn&& fn, const Options& options = internal::process_loops_as_usual,
               CallPlace at = CallPlace::here()) {
    if constexpr (internal::sends_items<Fn>()) {
      using T = std::decay_t<std::invoke_result_t<Fn&, std::size_t>>;
      if (team_.inside()) return alone<T>(n, fn);
      internal::note_place(at);
      const auto order = internal::order_for<T>(n, split_of(options), team_.granted(way_of(options)), workers());
      return internal::column_from<T>(order, options.stop, [&](internal::RegionOrder region, internal::Sink& sink) {
        auto body = std::addressof(fn);
        region.closure = &body;
        region.work = [](internal::WorkerSide& side) {
          internal::make_items<T>(side, *closure_of<decltype(body)>(side));
        };
        team_.run(region, sink, options.stop);
      });
    } else {
      return internal::AfterMistake();
    }
  }

  // As in a ThreadCrew: the borders of the ranges depend on n only, so the answer is the same for every worker count
  // and split.
  template <class Start, class PerRange, class Combine>
  auto fold(std::size_t n, Start start, PerRange&& per_range, Combine&& combine,
            const Options& options = internal::process_loops_as_usual, CallPlace at = CallPlace::here()) {
    if constexpr (internal::makes_parts<PerRange>()) {
      const std::size_t pieces = internal::fixed_ranges(n);
      const Options in_ranges{options.split.value_or(Split::chunks(1)), options.way, options.stop};
      auto parts = collect(
          pieces, [&](std::size_t k) { return per_range(even_part(n, pieces, k)); }, in_ranges, at);
      for (auto& part : parts) start = combine(std::move(start), std::move(part));
    }
    return start;
  }

  // array[i] = fn(i), in memory that all have mapped.
  template <class T, class Fn>
  requires std::convertible_to<std::invoke_result_t<Fn&, std::size_t>, T>
  void fill(CommonArray<T>& array, Fn&& fn, const Options& options = internal::process_loops_as_usual,
            CallPlace at = CallPlace::here()) {
    const Split split = split_of(options);
    if (team_.inside()) return fill_alone(array, fn);
    internal::note_place(at);
    auto both = std::pair(array.data(), std::addressof(fn));
    internal::RegionOrder region = internal::order_for<char>(array.size(), split, Way::copied, workers());
    region.only_letters = split.kind() == Split::Kind::even;  // nothing comes back but word of what was done
    region.closure = &both;
    region.work = [](internal::WorkerSide& side) {
      const auto& [data, body] = closure_of<decltype(both)>(side);
      internal::fill_items<T>(side, data, *body);
    };
    internal::NothingComesBack sink;
    team_.run(region, sink, options.stop);
    internal::refuse_half(options.stop, "fill");
  }

  // As it was written before options had names.
  template <class Fn>
  auto collect(std::size_t n, Split split, Fn&& fn, const AnyStopToken& stop = internal::no_stop,
               CallPlace at = CallPlace::here()) {
    return collect(n, fn, Options{split, {}, stop}, at);
  }
  template <class Fn>
  auto collect(std::size_t n, Split split, Fn&& fn, Way way, const AnyStopToken& stop = internal::no_stop,
               CallPlace at = CallPlace::here()) {
    return collect(n, fn, Options{split, way, stop}, at);
  }
  template <class Start, class PerRange, class Combine>
  auto fold(std::size_t n, Start start, PerRange&& per_range, Combine&& combine, const AnyStopToken& stop,
            CallPlace at = CallPlace::here()) {
    return fold(n, std::move(start), per_range, combine, Options{{}, {}, stop}, at);
  }
  template <class T, class Fn>
  void fill(CommonArray<T>& array, Split split, Fn&& fn, const AnyStopToken& stop = internal::no_stop,
            CallPlace at = CallPlace::here()) {
    fill(array, fn, Options{split, {}, stop}, at);
  }

  // What their bodies write would be lost. A body for several crews uses the loops above.
  template <class... Anything>
  void each(Anything&&...) = delete;
  template <class... Anything>
  void ranges(Anything&&...) = delete;

  // For studies: what is measured once and not in a timed call; and what is told at the end of each call.
  static void prepare_study() { internal::fault_cost_s(); }
  void end_call() noexcept { team_.after_fork().log(); }

 private:
  template <class Closure>
  static const Closure& closure_of(const internal::WorkerSide& side) {
    return *static_cast<const Closure*>(side.order().closure);
  }
  template <class T, class Fn>
  static Column<T> alone(std::size_t n, Fn& fn) {
    internal::Filler<T> filler(n);
    filler.fill({0, n}, internal::never_enough, fn);
    return std::move(filler).finished();
  }
  template <class T, class Fn>
  static void fill_alone(CommonArray<T>& array, Fn& fn) {
    for (std::size_t i = 0; i < array.size(); ++i) array[i] = fn(i);
  }

  static Split split_of(const Options& options) noexcept { return options.split.value_or(Split::even()); }
  Way way_of(const Options& options) const noexcept { return options.way.value_or(team_.facts().asked.processes.way); }

  internal::ForkedTeam team_;
};

}  // namespace antcrew
