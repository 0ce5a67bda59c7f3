// A piece of work begun now and waited for later: what TaskCrew::begin() returns.
//
//   Later<Chart> chart = crew.begin([&] { return read_chart(path); });
//   …                                    // other work
//   use(chart.get());                    // waits; throws what the work threw
//
// get() may be called once, from any thread, also inside work of the same crew: work that nobody has begun by then is
// done by the caller itself. A handle may outlive its crew, whose destructor waits for the work. A handle that is
// dropped before get() loses nothing: in a body of a call from outside, that call waits for the work at its end and
// throws what it threw, unless it throws itself; anywhere else, in begun work too, TaskCrew::settle() does, and no
// other call knows of it. A study remarks on it.
#pragma once

#include <atomic>
#include <cassert>
#include <cstdint>
#include <exception>
#include <optional>
#include <type_traits>
#include <utility>

#include "antcrew/crew/internal/tasks/dropped.hpp"
#include "antcrew/crew/internal/tasks/task.hpp"
#include "antcrew/crew/internal/void_result.hpp"

namespace antcrew {

namespace internal {

class TaskPool;

// What settle() waits for: work that was dropped outside of any call. It outlives the crew, as a handle may.
struct Unwaited : Dropped {
  std::atomic<std::uint64_t> count{0};  // of all work that was dropped, since the last time they were asked for
  std::atomic<int> dropping{0};         // threads that drop a handle just now
  bool nothing() const noexcept {
    return count.load(std::memory_order_acquire) == 0 && open.load(std::memory_order_acquire) == 0 && !has_error();
  }

 private:
  friend class UnwaitedHandle;
  std::atomic<int> handles_{1};
};

// Counts who needs it; the last one frees it.
class UnwaitedHandle {
 public:
  UnwaitedHandle() : unwaited_(new Unwaited) {}
  UnwaitedHandle(const UnwaitedHandle& other) noexcept : unwaited_(other.unwaited_) {
    unwaited_->handles_.fetch_add(1, std::memory_order_relaxed);
  }
  UnwaitedHandle& operator=(const UnwaitedHandle&) = delete;
  // Release and acquire: what was done through the other handles comes before the deletion.
  ~UnwaitedHandle() {
    if (unwaited_->handles_.fetch_sub(1, std::memory_order_acq_rel) == 1) delete unwaited_;
  }
  Unwaited* operator->() const noexcept { return unwaited_; }

 private:
  Unwaited* unwaited_;
};

// What the work and its handle share. Two hold it: the handle, and the crew until the task has come out of its queue.
// Whoever claims it runs it, a worker that finds the task or the handle itself; the other then finds it claimed.
// Acquire and release at the mark order the result before its reading; at the holders, all use before the deletion.
class Begun : public Task {
 public:
  explicit Begun(TaskPool& its_pool);
  virtual ~Begun() = default;
  Begun(const Begun&) = delete;
  Begun& operator=(const Begun&) = delete;

  // Puts it where workers find it.
  void hand_over() noexcept;

  // For the handle.
  bool ended() const noexcept { return (mark_.load(std::memory_order_seq_cst) & has_ended) != 0; }
  void wait();
  bool wait_for(double limit_s);
  bool ready();
  void drop() noexcept;
  void let_go() noexcept;

  std::exception_ptr error;

 protected:
  // The work; lets exceptions out.
  virtual void work() = 0;

 private:
  enum : int { claimed = 1, has_ended = 2, dropped = 4 };

  static void run_it(Task* task, TaskWorker& worker) noexcept;
  bool claim() noexcept { return (mark_.fetch_or(claimed, std::memory_order_acq_rel) & claimed) == 0; }
  void run() noexcept;
  void run_by_handle();

  TaskPool& pool_;  // gone, perhaps, once the work has ended
  const UnwaitedHandle unwaited_;
  Scope* const scope_;
  const ScopeName name_;
  Dropped* dropped_for_ = nullptr;  // written before the mark that it is dropped
  std::atomic<int> mark_{0};
  std::atomic<int> holders_{2};
};

template <class T>
struct BegunFor : Begun {
  using Begun::Begun;
  std::optional<VoidResult<T>> result;
};

template <class T, class Fn>
class BegunFn final : public BegunFor<T> {
 public:
  BegunFn(TaskPool& pool, Fn fn) : BegunFor<T>(pool), fn_(std::move(fn)) {}

 private:
  void work() override { this->result.emplace(result_of(fn_)); }
  Fn fn_;
};

}  // namespace internal

template <class T>
class Later {
 public:
  explicit Later(internal::BegunFor<T>* begun) noexcept : begun_(begun) {}
  Later(Later&& other) noexcept : begun_(std::exchange(other.begun_, nullptr)) {}
  Later& operator=(Later&& other) noexcept {
    Later(std::move(other)).swap(*this);
    return *this;
  }
  ~Later() {
    if (begun_ != nullptr) begun_->drop();
  }
  void swap(Later& other) noexcept { std::swap(begun_, other.begun_); }

  // Whether get() would return at once. Asking again and again makes it true in the end: where no other worker can, it
  // does this very work, and nothing else.
  bool ready() { return begun_->ready(); }

  // Waits for so many seconds at the most, taking up no work at all; whether it is ready. In a crew of one worker
  // nobody else may be there to do it.
  bool wait_for(double limit_s) { return begun_->wait_for(limit_s); }

  // Waits, doing this work or what descends from it meanwhile, and gives the answer or throws what the work threw.
  T get() {
    assert(begun_ != nullptr && "get() once");
    begun_->wait();
    struct LetGo {
      internal::BegunFor<T>* begun;
      ~LetGo() { begun->let_go(); }
    } const mine{std::exchange(begun_, nullptr)};
    // Moved out: else a worker may be the one that frees it, after this thread, by a count that no sanitizer sees.
    if (mine.begun->error) std::rethrow_exception(std::move(mine.begun->error));
    if constexpr (!std::is_void_v<T>) return std::move(*mine.begun->result);
  }

 private:
  internal::BegunFor<T>* begun_;
};

}  // namespace antcrew
