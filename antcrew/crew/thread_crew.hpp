// Standing threads that run loops together: the lowest cost per region, for even and uneven loops alike.
//
//   ThreadCrew crew(4);
//   crew.each(heights.size(), [&](std::size_t i) { heights[i] = tide_at(soundings[i]); });
//   auto squares = crew.collect(1000, [](std::size_t i) { return i * i; });
//   double sum = crew.fold(n, 0.0, [&](Range r) { … }, std::plus<>());
//
// Worker 0 is the calling thread. Between regions the others spin briefly and then sleep in the kernel; with more
// workers than usable processors they never spin.
//
// Faults: the first exception of a worker is thrown again at the call; the other workers stop at their next piece, or
// in `each` and `collect` after a 16th of it at most. What was written until then stays written.
// Threads: one thread at a time may call; a second one gets Error (crew.busy). A call inside a body on the same crew
// runs in the calling worker alone. The destructor may not run while a call is under way.
#pragma once

#include <algorithm>
#include <cstddef>
#include <memory>
#include <optional>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/column.hpp"
#include "antcrew/crew/crew_options.hpp"
#include "antcrew/crew/internal/fill.hpp"
#include "antcrew/crew/internal/handout.hpp"
#include "antcrew/crew/internal/team.hpp"
#include "antcrew/crew/split.hpp"

namespace antcrew {

class ThreadCrew {
 public:
  // Starts workers - 1 threads. Throws Error (crew.workers, crew.start) when the count is absurd or the system has no
  // more threads to give.
  explicit ThreadCrew(int workers, const CrewOptions& options = {});

  int workers() const noexcept { return workers_; }
  // What was asked and what was granted.
  const CrewFacts& facts() const noexcept { return facts_; }

  // body(Range) for pieces that together are 0 … n-1, each index once.
  template <class Body>
  void ranges(std::size_t n, Split split, Body&& body) {
    if (n == 0) return;
    if (workers_ == 1 && split.kind() == Split::Kind::even) return static_cast<void>(body(Range{0, n}));
    internal::Handout handout(n, split, runs_here() ? 1 : workers_);
    if (runs_here()) return handout.drain(0, never_, body);
    auto on_worker = [&](int worker) { handout.drain(worker, team_->cancelled(), body); };
    team_->run(internal::job_of(on_worker));
  }
  template <class Body>
  void ranges(std::size_t n, Body&& body) {
    ranges(n, Split::even(), std::forward<Body>(body));
  }

  // body(i) for every i of 0 … n-1.
  template <class Body>
  void each(std::size_t n, Split split, Body&& body) {
    const std::atomic<bool>& cancelled = stop_flag();
    const auto plainly = [&](Range range) {
      for (std::size_t i = range.first; i < range.last; ++i) body(i);
    };
    if (&cancelled == &never_) return ranges(n, split, plainly);
    ranges(n, split, [&](Range range) { internal::in_blocks(range, cancelled, plainly); });
  }
  template <class Body>
  void each(std::size_t n, Body&& body) {
    each(n, Split::even(), std::forward<Body>(body));
  }

  // fn(i) for every i, in order, in memory first touched by the worker that fills it.
  template <class Fn>
  auto collect(std::size_t n, Split split, Fn&& fn) {
    using T = std::decay_t<std::invoke_result_t<Fn&, std::size_t>>;
    internal::Filler<T> filler(n);
    const std::atomic<bool>& cancelled = stop_flag();
    ranges(n, split, [&](Range range) { filler.fill(range, cancelled, fn); });
    return std::move(filler).finished();
  }
  template <class Fn>
  auto collect(std::size_t n, Fn&& fn) {
    return collect(n, Split::even(), std::forward<Fn>(fn));
  }

  // combine(… combine(combine(start, a), b) …) of per_range's results, in index order. The borders of the ranges depend
  // on n only: the same answer for every worker count and run, also in floating point. n = 0 gives start.
  template <class Start, class PerRange, class Combine>
  auto fold(std::size_t n, Start start, PerRange&& per_range, Combine&& combine) {
    using T = std::decay_t<std::invoke_result_t<PerRange&, Range>>;
    const std::size_t pieces = std::min(n, fold_pieces);
    std::vector<std::optional<T>> partial(pieces);
    each(pieces, Split::chunks(8), [&](std::size_t k) { partial[k].emplace(per_range(even_part(n, pieces, k))); });
    for (std::optional<T>& part : partial) start = combine(std::move(start), std::move(*part));
    return start;
  }

 private:
  // Enough to level unequal ranges on 64 workers, few enough that handing them out costs microseconds.
  static constexpr std::size_t fold_pieces = 512;
  static inline const std::atomic<bool> never_{false};

  bool runs_here() const noexcept { return workers_ == 1 || team_->inside(); }
  // A call inside a body is never cut short: what it returns must be whole.
  const std::atomic<bool>& stop_flag() const noexcept { return runs_here() ? never_ : team_->cancelled(); }

  int workers_;
  CrewFacts facts_;
  std::unique_ptr<internal::Team> team_;  // pins the caller too, so a lone pinned worker has one
};

}  // namespace antcrew
