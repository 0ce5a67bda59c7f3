// Loops of a TaskCrew: halved as long as there is somebody to take a half (after Tzannes, Caragea, Barua and Vishkin
// 2010, "Lazy binary-splitting"), with nothing but the block under way out of others' reach.
//
// A worker offers the upper half of its range, then the upper half of what is left, and so on down to one block; all of
// them can be taken at once. A block begins at one piece and doubles only while it takes well under 8 µs. Inside a
// block the worker looks whether others have nothing to do while nothing of its own is left to take: then the rest of
// the block is offered, too, piece by piece; where the usual grain turns out too coarse, from the middle of a piece on
// and item by item.
//
// The end. Each range carries credit, and shares it when it is halved; who has done a range gives its credit back to
// the loop, and the loop is done when all of it is back (Mattern 1989, "Global quiescence detection based on credit
// distribution and recovery"). So one atomic step is paid for a range that was taken, none for one that was not, and
// nobody but the caller waits: while it does, it takes up ranges of this loop and what descends from them.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <exception>

#include "antcrew/base/enough.hpp"
#include "antcrew/base/range.hpp"
#include "antcrew/crew/internal/piece_body.hpp"
#include "antcrew/crew/internal/tasks/task.hpp"
#include "antcrew/crew/loop_fault.hpp"
#include "antcrew/machine/cache_line.hpp"

namespace antcrew::internal {

class Pace;

class Halving {
 public:
  // `failed` is raised when a piece has thrown; `enough` looks at it, too.
  // usual: nobody has asked for this grain, so that a body that may be cut need not be kept to it.
  Halving(std::size_t grain, bool usual, std::atomic<bool>& failed, const Enough& enough, PieceBody body) noexcept
      : grain_(grain), may_cut_(usual && body.may_cut && grain > 1), failed_(failed), enough_(enough), body_(body) {}

  // By the caller. What the pieces threw is kept.
  void run(TaskWorker& worker, Range range);
  // Exceptions come out.
  void run_alone(std::size_t n);
  void run_alone_kept(std::size_t n) noexcept;
  // The first pieces of one item, as long as Alone says. How many; all when one has thrown.
  std::size_t begin_alone(std::size_t n, int workers) noexcept;
  void throw_again() {
    if (!error_) return;
    current_loop_fault = {fault_, other_faults_.load(std::memory_order_relaxed)};
    std::rethrow_exception(error_);
  }

 private:
  void run_rest_alone(Range range) noexcept;
  static void run_taken(Task* task, TaskWorker& worker) noexcept;
  std::uint64_t work(TaskWorker& worker, Range range, std::uint64_t credit) noexcept;
  void offer_all_but(TaskWorker& worker, Range& range, std::uint64_t& credit, const Pace& pace, LoopTask*& last);
  void block(TaskWorker& worker, Range& range, Pace& pace) noexcept;
  std::size_t until_others_starve(TaskWorker& worker, Range piece, const Pace& pace);
  static Range front(Range range, const Pace& pace) noexcept;
  void keep_error() noexcept;
  bool give_back(std::uint64_t credit) noexcept;
  bool all_back() const noexcept;
  std::uint64_t more_credit() noexcept;

  std::size_t grain_;
  bool may_cut_;  // a piece may end in its middle
  std::atomic<bool>& failed_;
  Enough enough_;
  PieceBody body_;
  Scope* scope_ = nullptr;
  TaskWorker* owner_ = nullptr;
  alignas(line_bytes) std::atomic<std::uint64_t> back_{0};
  std::atomic<std::uint64_t> total_{std::uint64_t{1} << 62};
  std::exception_ptr error_;
  Range fault_;
  std::atomic<std::size_t> other_faults_{0};
};

}  // namespace antcrew::internal
