// What tasks do: fork in two, and loops that are halved while others are idle.
#pragma once

#include <algorithm>
#include <atomic>
#include <cstddef>
#include <cstdint>
#include <exception>
#include <memory>
#include <new>
#include <type_traits>
#include <utility>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/internal/tasks/task_pool.hpp"
#include "antcrew/crew/later.hpp"
#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {

template <class T>
struct DestroyAtEnd {
  T& object;
  ~DestroyAtEnd() { std::destroy_at(&object); }
};

// The second half of a fork, on the stack of the worker that waits for it. Only a thief writes the outcome, so that a
// fork nobody stole costs no more than what is pushed.
template <class G>
class Fork final : public JoinTask {
 public:
  using Answer = std::decay_t<std::invoke_result_t<G&>>;

  Fork(G& g, TaskWorker& worker) : JoinTask(&run_it, worker), g_(g) { worker.push(this); }
  Fork(const Fork&) = delete;
  Fork& operator=(const Fork&) = delete;
  ~Fork() {}  // the outcome is destroyed by whoever reads it

  Answer join() { return owner->take_back(this) ? g_() : taken(); }

  // Leaves no task behind when the first half threw; its exception goes before this half's.
  [[gnu::noinline, gnu::cold]] void abandon() noexcept {
    if (owner->take_back(this)) return;
    owner->wait_for(*this);
    if (threw_) {
      std::destroy_at(&error_);
    } else {
      std::destroy_at(&answer_);
    }
  }

 private:
  static void run_it(Task* task, TaskWorker&) noexcept {
    auto& self = *static_cast<Fork*>(task);
    TaskWorker* owner = self.owner;
    try {
      ::new (static_cast<void*>(&self.answer_)) Something<Answer>(result_of(self.g_));
      self.threw_ = false;
    } catch (...) {
      ::new (static_cast<void*>(&self.error_)) std::exception_ptr(std::current_exception());
      self.threw_ = true;
    }
    self.done.store(true, std::memory_order_seq_cst);
    TaskWorker::tell(owner);
  }

  [[gnu::noinline]] Answer taken() {
    owner->wait_for(*this);
    if (threw_) {
      const std::exception_ptr error = std::move(error_);
      std::destroy_at(&error_);
      std::rethrow_exception(error);
    }
    const DestroyAtEnd<Something<Answer>> end{answer_};
    if constexpr (!std::is_void_v<Answer>) return std::move(answer_);
  }

  G& g_;
  bool threw_;
  union {
    Something<Answer> answer_;
    std::exception_ptr error_;
  };
};

template <class F, class G>
inline constexpr bool both_answer =
    !std::is_void_v<std::invoke_result_t<F&>> && !std::is_void_v<std::invoke_result_t<G&>>;

// f's answer; an exception of f's comes out when `second` is done with.
template <class F, class Second>
auto first_half(F& f, Second& second) -> std::decay_t<std::invoke_result_t<F&>> {
  try {
    return f();
  } catch (...) {
    second.abandon();
    throw;
  }
}

template <class F, class G>
auto fork(TaskWorker& worker, F& f, G& g) {
  if (worker.stack_nearly_full()) [[unlikely]]
    refuse_depth("both");
  Fork<G> second(g, worker);
  if constexpr (both_answer<F, G>) {
    auto a = first_half(f, second);
    return std::pair<decltype(a), typename Fork<G>::Answer>{std::move(a), second.join()};
  } else {
    first_half(f, second);
    second.join();
  }
}

template <class F, class G>
auto one_after_the_other(F& f, G& g) {
  if constexpr (both_answer<F, G>) {
    auto a = f();
    return std::pair{std::move(a), g()};
  } else {
    f();
    g();
  }
}

// How many pieces a worker does in one go, so that a go takes some microseconds: halving costs little then, and what it
// has taken but not begun is out of others' reach for no longer.
class Pace {
 public:
  std::size_t pieces() const noexcept { return pieces_; }
  void took(std::int64_t ns) noexcept {
    if (ns < 2'000 && pieces_ < 256) pieces_ *= 2;
    if (ns > 8'000 && pieces_ > 1) pieces_ /= 2;
  }

 private:
  std::size_t pieces_ = 1;
};

template <class Enough, class OnPiece>
class Halving {
 public:
  Halving(std::size_t grain, std::atomic<bool>& failed, const Enough& enough, OnPiece& on_piece)
      : grain_(grain), failed_(failed), enough_(enough), on_piece_(on_piece) {}

  void run(TaskWorker& worker, Range range) noexcept {
    Pace pace;
    halve(worker, range, pace);
  }
  // Exceptions come out.
  void run_alone(Range range) {
    while (!range.empty() && !enough_()) {
      const Range next = front(range, 1);
      on_piece_(next, enough_);
      range.first = next.last;
    }
  }
  void throw_again() {
    if (error_) std::rethrow_exception(error_);
  }

 private:
  class Upper final : public JoinTask {
   public:
    Upper(Halving& loop, Range range, const Pace& pace, TaskWorker& worker)
        : JoinTask(&run_it, worker), loop_(loop), range_(range), pace_(pace) {
      worker.push(this);
    }

   private:
    static void run_it(Task* task, TaskWorker& worker) noexcept {
      auto& self = *static_cast<Upper*>(task);
      TaskWorker* owner = self.owner;
      self.loop_.halve(worker, self.range_, self.pace_);
      self.done.store(true, std::memory_order_seq_cst);
      TaskWorker::tell(owner);
    }
    Halving& loop_;
    Range range_;
    Pace pace_;
  };

  // Does the range, its upper half always offered to others while it is at the lower one.
  void halve(TaskWorker& worker, Range range, Pace& pace) noexcept {
    while (!range.empty() && !enough_()) {
      if (worker.pool.workers() == 1) return go(range);
      const Range next = front(range, pace.pieces());
      if (next.last == range.last) return timed_go(next, pace);
      const std::size_t middle = std::max(range.first + range.size() / 2, next.last);
      Upper upper(*this, {middle, range.last}, pace, worker);
      halve(worker, {range.first, middle}, pace);
      if (!worker.take_back(&upper)) return worker.wait_for(upper);
      range.first = middle;
    }
  }

  Range front(Range range, std::size_t pieces) const noexcept {
    return {range.first, range.size() / grain_ < pieces ? range.last : range.first + grain_ * pieces};
  }

  void timed_go(Range range, Pace& pace) noexcept {
    const std::int64_t start = now_ns();
    go(range);
    pace.took(now_ns() - start);
  }

  void go(Range range) noexcept {
    try {
      run_alone(range);
    } catch (...) {
      // Only the first to set the flag writes the error; the joins publish it to the thread that throws it again.
      if (!failed_.exchange(true, std::memory_order_relaxed)) error_ = std::current_exception();
    }
  }

  std::size_t grain_;
  std::atomic<bool>& failed_;
  const Enough& enough_;
  OnPiece& on_piece_;
  std::exception_ptr error_;
};

}  // namespace antcrew::internal
