// What tasks do: fork in two, and loops that are halved while others are idle.
#pragma once

#include <algorithm>
#include <atomic>
#include <exception>
#include <memory>
#include <new>
#include <type_traits>
#include <utility>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/internal/tasks.hpp"
#include "antcrew/crew/later.hpp"

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
  using Answer = std::invoke_result_t<G&>;

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
auto first_half(F& f, Second& second) -> std::invoke_result_t<F&> {
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
    return std::pair<decltype(a), std::invoke_result_t<G&>>{std::move(a), second.join()};
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

template <class Enough, class OnPiece>
class Halving {
 public:
  Halving(std::size_t grain, std::atomic<bool>& failed, const Enough& enough, OnPiece& on_piece)
      : grain_(grain), failed_(failed), enough_(enough), on_piece_(on_piece) {}

  // Does the range, offering its upper half whenever nothing else of this worker's can be stolen.
  void run(TaskWorker& worker, Range range) noexcept {
    while (!range.empty() && !enough_()) {
      if (range.size() <= grain_ || worker.offers_work()) {
        range.first = piece(range);
        continue;
      }
      const std::size_t middle = range.first + range.size() / 2;
      Upper upper(*this, {middle, range.last}, worker);
      run(worker, {range.first, middle});
      if (!worker.take_back(&upper)) return worker.wait_for(upper);
      range.first = middle;
    }
  }
  // Exceptions come out.
  void run_alone(Range range) {
    while (!range.empty() && !enough_()) {
      const Range next = front(range);
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
    Upper(Halving& loop, Range range, TaskWorker& worker) : JoinTask(&run_it, worker), loop_(loop), range_(range) {
      worker.push(this);
    }

   private:
    static void run_it(Task* task, TaskWorker& worker) noexcept {
      auto& self = *static_cast<Upper*>(task);
      TaskWorker* owner = self.owner;
      self.loop_.run(worker, self.range_);
      self.done.store(true, std::memory_order_seq_cst);
      TaskWorker::tell(owner);
    }
    Halving& loop_;
    Range range_;
  };

  Range front(Range range) const noexcept { return {range.first, range.first + std::min(grain_, range.size())}; }

  // Returns where the piece ends.
  std::size_t piece(Range range) noexcept {
    const Range next = front(range);
    try {
      on_piece_(next, enough_);
    } catch (...) {
      // Only the first to set the flag writes the error; the joins publish it to the thread that throws it again.
      if (!failed_.exchange(true, std::memory_order_relaxed)) error_ = std::current_exception();
    }
    return next.last;
  }

  std::size_t grain_;
  std::atomic<bool>& failed_;
  const Enough& enough_;
  OnPiece& on_piece_;
  std::exception_ptr error_;
};

}  // namespace antcrew::internal
