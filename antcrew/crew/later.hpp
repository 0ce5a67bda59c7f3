// A piece of work begun now and waited for later: what TaskCrew::begin() returns.
//
//   Later<Chart> chart = crew.begin([&] { return read_chart(path); });
//   …                                    // other work
//   use(chart.get());                    // waits; throws what the work threw
//
// get() may be called once, from any thread, while the crew lives. A handle that is dropped before get() loses nothing:
// the work is waited for at the end of the crew's call in which it was dropped (or by TaskCrew::settle()), what it
// threw comes out there, and a study remarks on it.
#pragma once

#include <atomic>
#include <cassert>
#include <exception>
#include <memory>
#include <optional>
#include <type_traits>
#include <utility>

#include "antcrew/crew/internal/tasks/task_pool.hpp"

namespace antcrew {

namespace internal {

struct Nothing {};
template <class T>
using Something = std::conditional_t<std::is_void_v<T>, Nothing, T>;

template <class Fn>
auto result_of(Fn& fn) -> Something<std::decay_t<std::invoke_result_t<Fn&>>> {
  if constexpr (std::is_void_v<std::invoke_result_t<Fn&>>) {
    fn();
    return {};
  } else {
    return fn();
  }
}

// Throws Error (crew.stack).
[[noreturn]] void refuse_depth(const char* where);

// The state that the work and its handle share. Whoever of the two comes last deletes it: the one that finds the
// other's mark. Acquire and release at the mark order the result before its reading and its deletion.
template <class T>
class Begun : public Task {
 public:
  enum Mark : int { open, ended, dropped };

  Begun(TaskPool& pool, void (*run_it)(Task*, TaskWorker&) noexcept) : Task(run_it), pool(pool) {}
  virtual ~Begun() = default;

  // By the work, as its last step.
  void end() noexcept {
    TaskPool& its_pool = pool;
    int seen = open;
    if (mark.compare_exchange_strong(seen, ended, std::memory_order_seq_cst)) return its_pool.ended();
    if (error) its_pool.keep_error(error);
    delete this;
    its_pool.ended_unwaited();
  }
  // By a handle that did not wait.
  void drop() noexcept {
    TaskPool& its_pool = pool;
    its_pool.given_up(true);
    int seen = open;
    if (mark.compare_exchange_strong(seen, dropped, std::memory_order_seq_cst)) return;
    if (error) its_pool.keep_error(error);
    delete this;
    its_pool.ended_unwaited();
  }

  TaskPool& pool;
  std::atomic<int> mark{open};
  std::optional<Something<T>> result;
  std::exception_ptr error;
};

template <class T, class Fn>
class BegunFn final : public Begun<T> {
 public:
  BegunFn(TaskPool& pool, Fn fn) : Begun<T>(pool, &run_it), fn_(std::move(fn)) {}

 private:
  static void run_it(Task* task, TaskWorker& worker) noexcept {
    auto& self = *static_cast<BegunFn*>(task);
    try {
      if (worker.stack_nearly_full()) refuse_depth("begin");
      self.result.emplace(result_of(self.fn_));
    } catch (...) {
      self.error = std::current_exception();
    }
    self.end();
  }
  Fn fn_;
};

}  // namespace internal

template <class T>
class Later {
 public:
  explicit Later(internal::Begun<T>* begun) noexcept : begun_(begun) {}
  Later(Later&& other) noexcept : begun_(std::exchange(other.begun_, nullptr)) {}
  Later& operator=(Later&& other) noexcept {
    Later(std::move(other)).swap(*this);
    return *this;
  }
  ~Later() {
    if (begun_ != nullptr) begun_->drop();
  }
  void swap(Later& other) noexcept { std::swap(begun_, other.begun_); }

  // Whether get() would return at once.
  bool ready() const noexcept { return begun_->mark.load(std::memory_order_acquire) != internal::Begun<T>::open; }

  // Waits, doing other work of the crew meanwhile, and gives the answer or throws what the work threw.
  T get() {
    assert(begun_ != nullptr && "get() once");
    begun_->pool.wait_for([&] { return begun_->mark.load(std::memory_order_seq_cst) != internal::Begun<T>::open; });
    const std::unique_ptr<internal::Begun<T>> mine(std::exchange(begun_, nullptr));
    if (mine->error) std::rethrow_exception(mine->error);
    if constexpr (!std::is_void_v<T>) return std::move(*mine->result);
  }

 private:
  internal::Begun<T>* begun_;
};

}  // namespace antcrew
