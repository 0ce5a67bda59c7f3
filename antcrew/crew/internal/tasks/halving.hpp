// Loops of a TaskCrew: halved as long as there is somebody to take a half (after Tzannes, Caragea, Barua and Vishkin
// 2010, "Lazy binary-splitting"), with nothing but the block under way out of others' reach.
//
// A worker offers the upper half of its range, then the upper half of what is left, and so on down to one block; all of
// them can be taken at once. A block begins at one piece and doubles only while it takes well under 8 µs. Inside a
// block the worker looks whether others have nothing to do while nothing of its own is left to take: then the rest of
// the block is offered, too, piece by piece.
//
// The end. Each range carries credit, and shares it when it is halved; who has done a range gives its credit back to
// the loop, and the loop is done when all of it is back (Mattern 1989, "Global quiescence detection based on credit
// distribution and recovery"). So one atomic step is paid for a range that was taken, none for one that was not, and
// nobody but the caller waits: while it does, it takes up ranges of this loop and what descends from them.
#pragma once

#include <algorithm>
#include <atomic>
#include <cstddef>
#include <cstdint>
#include <exception>
#include <new>
#include <utility>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/internal/tasks/task_pool.hpp"
#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {

// A range that others may take.
struct LoopTask : Task {
  LoopTask() noexcept : Task(nullptr) {}
  void* loop;
  Range range;
  std::uint64_t credit;
  LoopTask* below;  // the range offered before it; in a free list, the next one
};

// How many pieces a worker does in one go.
class Pace {
 public:
  Pace() noexcept : began_ns_(now_ns()) {}
  std::size_t pieces() const noexcept { return pieces_; }
  // One reading of the clock a block: a block goes on from the end of the one before.
  void block_ended(std::size_t pieces) noexcept {
    const std::int64_t now = now_ns();
    const std::int64_t ns = now - began_ns_;
    began_ns_ = now;
    if (ns < 4'000) {
      if (pieces == pieces_ && pieces_ < most) pieces_ *= 2;
    } else if (ns > 8'000) {
      pieces_ = std::max<std::size_t>(pieces_ / 2, 1);
    }
  }
  void begin_again() noexcept { pieces_ = 1; }

 private:
  static constexpr std::size_t most = 1u << 14;
  std::size_t pieces_ = 1;
  std::int64_t began_ns_;
};

template <class Enough, class OnPiece>
class Halving {
 public:
  Halving(std::size_t grain, std::atomic<bool>& failed, const Enough& enough, OnPiece& on_piece)
      : grain_(grain), failed_(failed), enough_(enough), on_piece_(on_piece) {}

  // By the caller. What the pieces threw is kept.
  void run(TaskWorker& worker, Range range) {
    Scope* scope = worker.open_scope(worker.scope());
    if (scope == nullptr) throw std::bad_alloc();
    scope_ = scope;
    owner_ = &worker;
    {
      const TaskWorker::In in(worker, scope);
      const std::uint64_t kept = work(worker, range, total_.load(std::memory_order_relaxed));
      if (!give_back(kept)) {
        worker.work_until({nullptr, scope->name(), false, nullptr, &failed_}, [this] { return all_back(); });
      }
    }
    worker.close_scope(scope);
  }
  // Exceptions come out.
  void run_alone(Range range) {
    while (!range.empty() && !enough_()) {
      const Range next = front(range, 1);
      on_piece_(next, enough_);
      range.first = next.last;
    }
  }
  void run_alone_kept(Range range) noexcept {
    try {
      run_alone(range);
    } catch (...) {
      keep_error();
    }
  }
  void throw_again() {
    if (error_) std::rethrow_exception(error_);
  }

 private:
  static void run_taken(Task* task, TaskWorker& worker) noexcept {
    auto* taken = static_cast<LoopTask*>(task);
    auto& loop = *static_cast<Halving*>(taken->loop);
    const Range range = taken->range;
    const std::uint64_t credit = taken->credit;
    worker.free_loop_task(taken);
    TaskWorker* owner = loop.owner_;  // the loop is gone when the caller has seen the last credit
    if (loop.give_back(loop.work(worker, range, credit))) TaskWorker::tell(owner);
  }

  // Does what is not taken by others of a range, and returns the credit that is left here.
  std::uint64_t work(TaskWorker& worker, Range range, std::uint64_t credit) noexcept {
    Pace pace;
    LoopTask* last = nullptr;  // offered, and perhaps still here
    while (true) {
      if (!range.empty() && !enough_()) {
        offer_all_but(worker, range, credit, pace, last);
        block(worker, range, pace);
        continue;
      }
      if (last == nullptr || !worker.take_back(last)) return credit;  // the older ones have been taken before it
      range = last->range;
      credit += last->credit;
      worker.free_loop_task(std::exchange(last, last->below));
    }
  }

  void offer_all_but(TaskWorker& worker, Range& range, std::uint64_t& credit, const Pace& pace, LoopTask*& last) {
    int offered = 0;
    for (Range next = front(range, pace.pieces()); next.last < range.last; next = front(range, pace.pieces())) {
      LoopTask* upper = worker.new_loop_task();
      if (upper == nullptr) break;
      const std::size_t middle = std::max(range.first + range.size() / 2, next.last);
      if (credit < 2) credit += more_credit();
      upper->run = &run_taken;
      upper->loop = this;
      upper->range = {middle, range.last};
      const std::uint64_t half = credit / 2;
      upper->credit = half;
      upper->below = last;
      if (!worker.push_quietly(upper, scope_)) {
        worker.free_loop_task(upper);
        break;
      }
      last = upper;  // from here on it may be another's, and not to be read
      credit -= half;
      range.last = middle;
      ++offered;
    }
    if (offered > 0) worker.tell_of(scope_, offered);
  }

  // The first pieces of the range.
  void block(TaskWorker& worker, Range& range, Pace& pace) noexcept {
    const std::size_t most = pace.pieces();
    std::size_t first = range.first;
    std::size_t done = 0;
    bool starving = false;
    try {
      while (done < most && first < range.last && !enough_()) {
        if (done > 0 && (starving = worker.others_starve())) break;
        const Range next = front({first, range.last}, 1);
        first = next.last;
        ++done;
        on_piece_(next, enough_);
      }
    } catch (...) {
      keep_error();
    }
    worker.tell_pieces(range.first, first - range.first, done);
    range.first = first;
    starving ? pace.begin_again() : pace.block_ended(done);
  }

  Range front(Range range, std::size_t pieces) const noexcept {
    return {range.first, range.size() / grain_ < pieces ? range.last : range.first + grain_ * pieces};
  }

  // Only the first to set the flag writes the error; giving credit back publishes it to the caller.
  void keep_error() noexcept {
    if (!failed_.exchange(true, std::memory_order_relaxed)) error_ = std::current_exception();
  }

  // True when it was the last; otherwise the loop may be gone afterwards. The total is read anew whenever somebody else
  // has given back meanwhile: whoever raised it holds credit that is not back. Sequentially consistent with the
  // caller's going to sleep.
  bool give_back(std::uint64_t credit) noexcept {
    std::uint64_t back = back_.load(std::memory_order_acquire);
    std::uint64_t total = total_.load(std::memory_order_relaxed);
    while (!back_.compare_exchange_weak(back, back + credit, std::memory_order_seq_cst, std::memory_order_acquire)) {
      total = total_.load(std::memory_order_relaxed);
    }
    return back + credit == total;
  }
  bool all_back() const noexcept {
    return back_.load(std::memory_order_seq_cst) == total_.load(std::memory_order_relaxed);
  }
  std::uint64_t more_credit() noexcept {
    constexpr std::uint64_t more = std::uint64_t{1} << 32;
    total_.fetch_add(more, std::memory_order_relaxed);
    return more;
  }

  std::size_t grain_;
  std::atomic<bool>& failed_;
  const Enough& enough_;
  OnPiece& on_piece_;
  Scope* scope_ = nullptr;
  TaskWorker* owner_ = nullptr;
  alignas(line_bytes) std::atomic<std::uint64_t> back_{0};
  std::atomic<std::uint64_t> total_{std::uint64_t{1} << 62};
  std::exception_ptr error_;
};

}  // namespace antcrew::internal
