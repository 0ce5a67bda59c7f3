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
// Stopping: a loop given a std::stop_token takes no further pieces once it is asked to stop; ask the token whether all
// was done.
// Threads: one thread at a time may call; a second one gets Error (crew.busy). A call inside a body on the same crew
// runs in the calling worker alone. The destructor may not run while a call is under way.
#pragma once

#include <cstddef>
#include <memory>
#include <stop_token>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/crew_options.hpp"
#include "antcrew/crew/internal/handout.hpp"
#include "antcrew/crew/internal/loops.hpp"
#include "antcrew/crew/internal/meter.hpp"
#include "antcrew/crew/internal/threads/team.hpp"
#include "antcrew/crew/split.hpp"

namespace antcrew {

class ThreadCrew : public internal::Loops<ThreadCrew, Split> {
 public:
  // Starts workers - 1 threads. Throws Error (crew.workers, crew.start) when the count is absurd or the system has no
  // more threads to give.
  explicit ThreadCrew(int workers, const CrewOptions& options = {});

  int workers() const noexcept { return workers_; }
  // What was asked and what was granted.
  const CrewFacts& facts() const noexcept { return facts_; }

  // ranges, each, collect, fold: see crew/internal/loops.hpp. Each takes a Split before the body, and a std::stop_token
  // after it; both may be left out.
  static constexpr Split usual = Split::even();
  static constexpr Split small_pieces(std::size_t k) noexcept { return Split::chunks(k); }

  // For Watch.
  internal::MeterSwitch& meter() noexcept { return workers_ == 1 ? meter_ : team_->meter(); }

 private:
  friend class internal::Loops<ThreadCrew, Split>;

  template <class OnPiece>
  void pieces(std::size_t n, Split split, const std::stop_token& stop, OnPiece&& on_piece) {
    if (n == 0) return;
    const bool here = runs_here();
    if (!stop.stop_possible()) {
      // A call inside a body is never cut short: what it returns must be whole.
      if (here) return alone(n, split, internal::Never{}, on_piece);
      if (split.kind() == Split::Kind::even) return together_evenly(n, on_piece);
      return together(n, split, internal::Raised{team_->cancelled()}, on_piece);
    }
    const internal::StopFlag stopped(stop);
    if (here) return alone(n, split, internal::Raised{stopped.flag()}, on_piece);
    together(n, split, internal::EitherRaised{team_->cancelled(), stopped.flag()}, on_piece);
  }

  template <class Enough, class OnPiece>
  void alone(std::size_t n, Split split, const Enough& enough, OnPiece& on_piece) {
    auto body = [&](Range range) { on_piece(range, enough); };
    if (internal::Meter* meter = meter_.now(); meter != nullptr) return alone_metered(*meter, n, split, enough, body);
    if (split.kind() == Split::Kind::even) return body(Range{0, n});
    internal::Handout(n, split, 1, nullptr).drain(0, enough, body);
  }

  // Calls inside bodies are part of those.
  template <class Enough, class Body>
  void alone_metered(internal::Meter& meter, std::size_t n, Split split, const Enough& enough, Body& body) {
    const internal::Inner inner(meter.depth);
    const bool outermost = inner.depth() == 1;
    const internal::CallMeter call(outermost ? &meter : nullptr);
    const internal::Busy busy(outermost ? meter.lane(0) : nullptr);
    const std::size_t pieces = internal::Handout(n, split, 1, nullptr).drain(0, enough, body);
    if (outermost) meter.lane(0)->pieces.add(static_cast<std::int64_t>(pieces));
  }

  template <class Enough, class OnPiece>
  void together(std::size_t n, Split split, const Enough& enough, OnPiece& on_piece) {
    team_->enter();
    internal::Handout handout(n, split, workers_, team_->shares());
    auto body = [&](Range range) { on_piece(range, enough); };
    auto on_worker = [&](int worker) { return handout.drain(worker, enough, body); };
    team_->run(internal::job_of(on_worker));
  }

  // One range a worker: nothing to hand out, so nothing that workers must fetch but the job.
  template <class OnPiece>
  void together_evenly(std::size_t n, OnPiece& on_piece) {
    team_->enter();
    internal::Job job;
    job.n = n;
    job.call = [](const internal::Job& self, int worker, internal::Team& team) -> std::size_t {
      const Range mine = even_part(self.n, static_cast<std::size_t>(team.workers()), static_cast<std::size_t>(worker));
      internal::at_border();
      if (!mine.empty()) self.kept<OnPiece>()(mine, internal::Raised{team.cancelled()});
      internal::at_border();
      return mine.empty() ? 0 : 1;
    };
    job.keep(on_piece);
    team_->run(job);
  }

  bool runs_here() const noexcept { return workers_ == 1 || team_->inside(); }

  int workers_;
  internal::MeterSwitch meter_;  // of a crew of one
  CrewFacts facts_;
  std::unique_ptr<internal::Team> team_;  // pins the caller too, so a lone pinned worker has one
};

}  // namespace antcrew
