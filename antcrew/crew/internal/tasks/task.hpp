// A piece of work of a TaskCrew.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/internal/tasks/scope.hpp"

namespace antcrew::internal {

class TaskWorker;

// run() is called once; the task may be gone when it returns. It lets no exception out.
struct Task {
  explicit Task(void (*run_it)(Task*, TaskWorker&) noexcept) noexcept : run(run_it) {}
  void (*run)(Task*, TaskWorker&) noexcept;
  // While it lies in the pool's own queue.
  Task* older;
  Task* newer;
  Scope* scope;
};

// A range of a loop, which others may take.
struct LoopTask : Task {
  LoopTask() noexcept : Task(nullptr) {}
  void* loop;
  Range range;
  std::uint64_t credit;
  LoopTask* below;  // the range offered before it; in a free list, the next one
};

// The second half of a fork: the worker that pushed it waits for it, and it lies on that worker's stack.
struct JoinTask : Task {
  JoinTask(void (*run_it)(Task*, TaskWorker&) noexcept, TaskWorker& its_owner) noexcept
      : Task(run_it), owner(&its_owner) {}

  bool done() const noexcept { return state_.load(std::memory_order_seq_cst) == is_done; }
  // Of its run by another worker; nothing before.
  ScopeName runs_as() const noexcept {
    const std::uintptr_t state = state_.load(std::memory_order_acquire);
    return state <= is_done ? ScopeName{} : ScopeName{reinterpret_cast<const Scope*>(state), life_};
  }
  // By who runs it.
  void begins_as(const Scope* scope) noexcept {
    life_ = scope->life.load(std::memory_order_relaxed);
    state_.store(reinterpret_cast<std::uintptr_t>(scope), std::memory_order_release);
  }
  void end() noexcept { state_.store(is_done, std::memory_order_seq_cst); }

  TaskWorker* owner;

 private:
  static constexpr std::uintptr_t is_done = 1;
  std::atomic<std::uintptr_t> state_{0};
  std::uint32_t life_;
};

// What a worker waits for, and so may take up.
struct Wanted {
  const JoinTask* join = nullptr;    // this very task, or what descends from its run
  ScopeName scope = {};              // what descends from this one
  DroppedFor dropped = not_dropped;  // begun work whose handle was dropped for this, and what descends from it
  // How much of it has not begun, in the upper half, where that is known: whatever it lies under is moved away for it.
  const std::atomic<std::uint64_t>* unbegun = nullptr;
  // Raised when the outcome does not matter any more, because something was thrown: then only what was not begun is
  // taken up, so as to end it. Work that was begun is not helped: recursion without end, which was refused here, would
  // go on there.
  const std::atomic<bool>* in_vain = nullptr;

  ScopeName name() const noexcept { return join != nullptr ? join->runs_as() : scope; }
  bool includes(const Task* task, const Scope* its_scope) const noexcept {
    if (join != nullptr && task == join) return true;
    if (dropped != not_dropped) return of_dropped_work(its_scope);
    const ScopeName wanted = name();
    if (!wanted || its_scope == nullptr) return false;
    if (in_vain == nullptr || !in_vain->load(std::memory_order_relaxed)) return descends(its_scope, wanted);
    return join == nullptr && its_scope == wanted.scope &&
           its_scope->life.load(std::memory_order_relaxed) == wanted.life;
  }

 private:
  // Begun work descends from nothing.
  bool of_dropped_work(const Scope* scope) const noexcept {
    const Scope* top = scope;
    for (std::uint32_t below = ~std::uint32_t{0}; top != nullptr;) {
      const std::uint32_t depth = top->depth.load(std::memory_order_relaxed);
      if (depth >= below) return false;
      below = depth;
      const Scope* parent = top->parent.load(std::memory_order_relaxed);
      if (parent == nullptr) return top->begun.load(std::memory_order_relaxed) && dropped_for(*top) == dropped;
      if (parent->life.load(std::memory_order_relaxed) != top->parent_life.load(std::memory_order_relaxed))
        return false;
      top = parent;
    }
    return false;
  }
};

}  // namespace antcrew::internal
