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
// Threads: one thread at a time may call; a second one gets Error (crew.busy), and nothing was done. hold() keeps the
// crew for several calls. A call inside a body on the same crew runs in the calling worker alone: the other workers are
// at the region that the body belongs to, and one that gave some of them to a body would have to wait for all of them
// twice; loops inside loops are what TaskCrew is for. Recursion through such calls that nears the end of the stack
// throws Error (crew.stack). The destructor may not run while a call is under way.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <stop_token>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/crew_options.hpp"
#include "antcrew/crew/internal/handout.hpp"
#include "antcrew/crew/internal/here.hpp"
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

  // The crew is the calling thread's until the end of the Hold: calls of other threads are refused also between two of
  // its own. Throws Error (crew.busy) when another thread has it. Holds may lie inside each other, and inside bodies.
  class Hold {
   public:
    explicit Hold(ThreadCrew& crew)
        : crew_(crew.workers_ > 1 && crew.number_here() < 0 ? &crew : nullptr), solo_(crew) {
      if (crew_ != nullptr) crew_->team_->enter();
    }
    ~Hold() {
      if (crew_ != nullptr) crew_->team_->leave();
    }
    Hold(const Hold&) = delete;
    Hold& operator=(const Hold&) = delete;

   private:
    friend class ThreadCrew;
    // A crew of one does nothing that a second caller could harm: a look notices it, without an atomic step.
    class Solo {
     public:
      explicit Solo(ThreadCrew& crew) : caller_(crew.caller_) {
        const void* me = internal::thread_mark();
        const void* seen = caller_.load(std::memory_order_relaxed);
        if (seen == me) return;
        if (seen != nullptr && crew.workers_ == 1) internal::refuse_busy("ThreadCrew");
        outermost_ = true;
        caller_.store(me, std::memory_order_relaxed);
      }
      ~Solo() {
        if (outermost_) caller_.store(nullptr, std::memory_order_relaxed);
      }
      Solo(const Solo&) = delete;
      Solo& operator=(const Solo&) = delete;

     private:
      std::atomic<const void*>& caller_;
      bool outermost_ = false;
    };
    ThreadCrew* crew_;
    Solo solo_;
  };
  [[nodiscard]] Hold hold() { return Hold(*this); }

  // Sleeping workers that callers have woken themselves so far; the others were woken by workers.
  std::uint64_t wake_ups_by_caller() const noexcept { return team_ == nullptr ? 0 : team_->wake_ups_by_caller(); }

  // For Watch.
  internal::MeterSwitch& meter() noexcept { return workers_ == 1 ? meter_ : team_->meter(); }

 private:
  friend class internal::Loops<ThreadCrew, Split>;

  template <class OnPiece>
  void pieces(std::size_t n, Split split, const std::stop_token& stop, OnPiece&& on_piece) {
    if (n == 0) return;
    if (workers_ == 1) return by_one(n, split, stop, on_piece);
    const int number = number_here();
    if (!stop.stop_possible()) {
      // A call inside a body is never cut short: what it returns must be whole.
      if (number >= 0) return inside(number, n, split, internal::Never{}, on_piece);
      if (split.kind() == Split::Kind::even) return together_evenly(n, on_piece);
      return together(n, split, internal::Raised{team_->cancelled()}, on_piece);
    }
    const internal::StopFlag stopped(stop);
    if (number >= 0) return inside(number, n, split, internal::Raised{stopped.flag()}, on_piece);
    together(n, split, internal::EitherRaised{team_->cancelled(), stopped.flag()}, on_piece);
  }

  template <class OnPiece>
  void by_one(std::size_t n, Split split, const std::stop_token& stop, OnPiece& on_piece) {
    const Hold::Solo solo(*this);
    const internal::PinnedHere pin(team_ == nullptr ? -1 : team_->pin_of_caller());
    if (!stop.stop_possible()) return inside(0, n, split, internal::Never{}, on_piece);
    const internal::StopFlag stopped(stop);
    inside(0, n, split, internal::Raised{stopped.flag()}, on_piece);
  }

  // In the calling thread, as the worker that it is.
  template <class Enough, class OnPiece>
  void inside(int number, std::size_t n, Split split, const Enough& enough, OnPiece& on_piece) {
    if (internal::stack_nearly_full()) internal::refuse_depth("ThreadCrew", "a loop");
    const internal::AsWorker as(number);
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
  [[gnu::noinline, gnu::cold]] static std::size_t logged(internal::Lane& lane, internal::Handout& handout, int worker,
                                                         const Enough& enough, OnPiece& on_piece) {
    internal::PieceLog log(&lane);
    auto body = [&](Range range) {
      on_piece(range, enough);
      log.ended(range.first, range.size());
    };
    return handout.drain(worker, enough, body);
  }

  template <class Enough, class OnPiece>
  void together(std::size_t n, Split split, const Enough& enough, OnPiece& on_piece) {
    team_->enter();
    internal::Handout handout(n, split, workers_, team_->shares());
    // Two loops: with a log in it, the compiler would keep its pieces in memory and not in registers.
    auto on_worker = [&](int worker) {
      if (internal::Lane* lane = team_->lane_of_caller()) [[unlikely]]
        return logged(*lane, handout, worker, enough, on_piece);
      auto body = [&](Range range) { on_piece(range, enough); };
      return handout.drain(worker, enough, body);
    };
    const bool even = split.kind() == Split::Kind::even;
    team_->run(internal::job_of(on_worker, n, even ? internal::Sharing::even : internal::Sharing::pieces));
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
      if (!mine.empty()) {
        internal::PieceLog log(team.lane_of_caller());
        self.kept<OnPiece>()(mine, internal::Raised{team.cancelled()});
        log.ended(mine.first, mine.size());
      }
      internal::at_border();
      return mine.empty() ? 0 : 1;
    };
    job.keep(on_piece);
    team_->run(job);
  }

  int number_here() const noexcept { return team_->number_inside(); }

  int workers_;
  std::atomic<const void*> caller_{nullptr};  // of a crew of one
  internal::MeterSwitch meter_;               // likewise
  CrewFacts facts_;
  std::unique_ptr<internal::Team> team_;  // also of one worker that is pinned
};

}  // namespace antcrew
