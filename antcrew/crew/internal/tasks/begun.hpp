// Begun work, and what is begun when other begun work has ended.
//
// The work and its handle share a Begun. Two hold it: the handle, and the crew until the task has come out of its
// queue. Whoever claims it runs it, a worker that finds the task or the handle itself; the other then finds it claimed.
//
// A continuation has the handles of what it comes after (Earlier) until it takes them out, and is held by each of them
// until that one has told it of its end. It may be claimed from the moment all of that is there (may_begin). A chain of
// then() has one scope: whoever waits for its last piece, or drops it, so waits for all of it, and takes up any of it.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <exception>
#include <optional>
#include <type_traits>
#include <utility>

#include "antcrew/crew/internal/tasks/dropped.hpp"
#include "antcrew/crew/internal/tasks/task.hpp"
#include "antcrew/crew/internal/void_result.hpp"
#include "antcrew/machine/lock.hpp"

namespace antcrew::internal {

class Begun;
class Earlier;
class TaskPool;

// What settle() waits for: work that was dropped outside of any call. It outlives the crew, as a handle may.
struct Unwaited : Dropped {
  std::atomic<std::uint64_t> count{0};  // of all work that was dropped, since the last time they were asked for
  std::atomic<int> dropping{0};         // threads that drop a handle just now
  std::atomic<bool> crew_gone{false};
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

// One that somebody looks at who has no handle of it.
class HeldBegun {
 public:
  explicit HeldBegun(Begun* begun = nullptr) noexcept;
  ~HeldBegun();
  HeldBegun(HeldBegun&& other) noexcept : begun_(std::exchange(other.begun_, nullptr)) {}
  HeldBegun& operator=(HeldBegun&& other) noexcept {
    std::swap(begun_, other.begun_);
    return *this;
  }
  explicit operator bool() const noexcept { return begun_ != nullptr; }
  Begun* operator->() const noexcept { return begun_; }

 private:
  Begun* begun_;
};

// One that a continuation comes after. It lies in the continuation, which is held until it has been told.
struct LinkToLater {
  Earlier* of = nullptr;
  Begun* begun = nullptr;
  LinkToLater* next = nullptr;
};

// What a continuation comes after: all of it, or the first of it that ends.
class Earlier {
 public:
  enum class Until : bool { all, first };
  // One, in a chain with the continuation.
  explicit Earlier(Begun& later);
  Earlier(Begun& later, std::size_t count, Until until);
  // Drops what was not taken out.
  ~Earlier();
  Earlier(const Earlier&) = delete;
  Earlier& operator=(const Earlier&) = delete;

  std::size_t size() const noexcept { return size_; }
  bool in_a_chain() const noexcept { return in_a_chain_; }
  // The handle's hold of each.
  void put(std::size_t k, Begun* begun) noexcept { links_[k].begun = begun; }
  // After all were put: from here on the continuation may be begun at any time.
  void await() noexcept;
  // By the continuation's work, for which all it needs has ended. With the handle's hold.
  Begun* take_out(std::size_t k) noexcept;
  // Until::first: which one that was.
  std::size_t first() const noexcept { return first_.load(std::memory_order_acquire); }

  // By who waits for the continuation, and holds it.

  // One that has not ended; null when it has, or was taken out.
  HeldBegun hold(std::size_t k) noexcept;
  // All before it have ended.
  std::size_t first_open() noexcept;
  void wait();

 private:
  friend class Begun;
  static constexpr std::size_t none = ~std::size_t{0};

  void ended(LinkToLater& link, Begun** next) noexcept;
  void one_less(Begun** next) noexcept;

  Begun& later_;
  LinkToLater one_;
  LinkToLater* links_ = &one_;  // or its own, of several
  std::size_t size_ = 1;
  bool in_a_chain_ = true;
  bool awaited_ = false;
  Until until_ = Until::all;
  std::atomic<std::size_t> left_;  // until it may begin; one more than are to end, for await() itself
  std::atomic<std::size_t> first_{none};
  Lock lock_;  // of what lies in the links' `begun` from await() on, and of this:
  std::size_t first_open_ = 0;
};

// Acquire and release at the mark order the result before its reading; at the holders, all use before the deletion.
class Begun : public Task {
 public:
  explicit Begun(TaskPool& its_pool, bool comes_after_others = false);
  virtual ~Begun();
  Begun(const Begun&) = delete;
  Begun& operator=(const Begun&) = delete;

  // Puts it where workers find it.
  void hand_over() noexcept;

  // For the handle, or whoever else holds it.
  bool ended() const noexcept { return (mark_.load(std::memory_order_seq_cst) & has_ended) != 0; }
  void wait();
  bool wait_for(double limit_s);
  bool ready();
  void drop() noexcept;
  void drop_for(Dropped& whom, DroppedFor name) noexcept;
  void hold() noexcept { holders_.fetch_add(1, std::memory_order_relaxed); }
  void let_go() noexcept;

  TaskPool& pool() const noexcept { return pool_; }
  // Throws Error (crew.gone): what is to come after this has nowhere to run.
  void refuse_if_crew_gone(const char* call) const;

  std::exception_ptr error;

 protected:
  // The work; lets exceptions out.
  virtual void work() = 0;
  // What its result holds of other begun work, where the handle was dropped before there was a result.
  virtual void drop_result(Dropped&, DroppedFor) noexcept {}
  Earlier* earlier_ = nullptr;  // of a continuation

 private:
  friend class Earlier;
  // told: somebody is to be told of its end; goes_on: its scope is that of its continuation, too
  enum : int { claimed = 1, has_ended = 2, dropped = 4, may_begin = 8, told = 16, goes_on = 32 };

  static void run_it(Task* task, TaskWorker& worker) noexcept;
  bool begins() const noexcept { return (mark_.load(std::memory_order_acquire) & may_begin) != 0; }
  bool claim() noexcept { return (mark_.fetch_or(claimed, std::memory_order_acq_rel) & claimed) == 0; }
  // next: what goes on from it in a chain, for the caller to run and let go of.
  void run(Begun*& next) noexcept;
  void run_chain() noexcept;
  void run_by_handle();
  int link(LinkToLater& link, int marks) noexcept;
  void tell_all(Begun** next) noexcept;
  void begins_now(Begun** next) noexcept;
  void go_on_in_scope_of(const Begun& before) noexcept;
  HeldBegun start_of_chain() noexcept;
  bool do_some();
  void mark_all_dropped(DroppedFor name) noexcept;

  TaskPool& pool_;  // gone, perhaps, once the work has ended
  const UnwaitedHandle unwaited_;
  Scope* scope_;
  ScopeName name_;
  Dropped* dropped_for_ = nullptr;  // these two are written before the mark that it is dropped
  DroppedFor dropped_name_ = not_dropped;
  std::atomic<int> mark_;
  std::atomic<int> holders_{2};
  std::atomic<LinkToLater*> links_{nullptr};
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

// Of begun work that was held until now: what it gave, or threw.
template <class T>
VoidResult<T> outcome_of(Begun* begun) {
  struct LetGo {
    BegunFor<T>* begun;
    ~LetGo() { begun->let_go(); }
  } const mine{static_cast<BegunFor<T>*>(begun)};
  // Moved out: else a worker may be the one that frees it, after this thread, by a count that no sanitizer sees.
  if (mine.begun->error) std::rethrow_exception(std::move(mine.begun->error));
  return std::move(*mine.begun->result);
}

// fn(what T gave).
template <class U, class T, class Fn>
class BegunThen final : public BegunFor<U> {
 public:
  BegunThen(TaskPool& pool, Fn fn) : BegunFor<U>(pool, true), fn_(std::move(fn)), after_(*this) {
    this->earlier_ = &after_;
  }
  void await(Begun* earlier) noexcept {
    after_.put(0, earlier);
    after_.await();
  }

 private:
  void work() override {
    auto given = outcome_of<T>(after_.take_out(0));
    auto call = [&]() -> decltype(auto) {
      if constexpr (std::is_void_v<T>) {
        return fn_();
      } else {
        return fn_(std::move(given));
      }
    };
    this->result.emplace(result_of(call));
  }
  Fn fn_;
  Earlier after_;
};

// Throws Error (crew.no_work): a handle without work was asked for something.
[[noreturn]] void refuse_no_work(const char* call);

}  // namespace antcrew::internal
