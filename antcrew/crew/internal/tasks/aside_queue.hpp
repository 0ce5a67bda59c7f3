// Tasks that lie with no worker: those from outside, and those put aside because what lay under them was wanted first.
//
// Under one lock; the count can be read without it. Whoever has nothing to do takes the oldest, whoever waits the
// newest that is wanted: as from a worker's deque.
#pragma once

#include <atomic>
#include <cstdint>

#include "antcrew/crew/internal/tasks/deque.hpp"
#include "antcrew/crew/internal/tasks/task.hpp"
#include "antcrew/machine/lock.hpp"

namespace antcrew::internal {

// Any thread may call.
class AsideQueue {
 public:
  void put(Task* task, Scope* scope) noexcept;
  Found take_oldest() noexcept;
  // The newest that is wanted, of some, or, where it looks deep, of all.
  Found take(const Wanted& wanted, bool deep) noexcept;
  // This very task, if it lies here and not deep below newer ones.
  bool take_out(Task* task) noexcept;
  bool has(const Wanted& wanted) const noexcept;
  // Counted before whoever put it there looks for sleepers.
  bool empty() const noexcept { return count_.load(std::memory_order_seq_cst) <= 0; }
  // Whether something was put here since this last said so.
  bool has_new() noexcept;

 private:
  static constexpr int most_looks = 64;

  bool looks_empty() const noexcept { return count_.load(std::memory_order_relaxed) == 0; }
  void unlink(Task* task) noexcept;

  std::atomic<std::int64_t> count_{0};
  mutable Lock lock_;
  Task* oldest_ = nullptr;
  Task* newest_ = nullptr;
  std::uint64_t puts_ = 0;
  std::uint64_t puts_told_ = 0;
};

}  // namespace antcrew::internal
