#include "antcrew/crew/internal/tasks/aside_queue.hpp"

#include <mutex>

namespace antcrew::internal {

void AsideQueue::put(Task* task, Scope* scope) noexcept {
  task->newer = nullptr;
  task->scope = scope;
  const std::lock_guard<Lock> held(lock_);
  task->older = newest_;
  (newest_ == nullptr ? oldest_ : newest_->newer) = task;
  newest_ = task;
  ++puts_;
  count_.fetch_add(1, std::memory_order_seq_cst);
}

// Under the lock.
void AsideQueue::unlink(Task* task) noexcept {
  (task->older == nullptr ? oldest_ : task->older->newer) = task->newer;
  (task->newer == nullptr ? newest_ : task->newer->older) = task->older;
  count_.fetch_sub(1, std::memory_order_relaxed);
}

Found AsideQueue::take_oldest() noexcept {
  if (looks_empty()) return {};
  const std::lock_guard<Lock> held(lock_);
  Task* task = oldest_;
  if (task == nullptr) return {};
  unlink(task);
  return {task, task->scope};
}

Found AsideQueue::take(const Wanted& wanted, bool deep) noexcept {
  if (looks_empty()) return {};
  const std::lock_guard<Lock> held(lock_);
  int looks = 0;
  for (Task* task = newest_; task != nullptr && (deep || ++looks <= most_looks); task = task->older) {
    if (!wanted.includes(task, task->scope)) continue;
    unlink(task);
    return {task, task->scope};
  }
  return {};
}

bool AsideQueue::take_out(Task* task) noexcept {
  if (looks_empty()) return false;
  const std::lock_guard<Lock> held(lock_);
  int looks = 0;
  for (Task* at = newest_; at != nullptr && ++looks <= most_looks; at = at->older) {
    if (at != task) continue;
    unlink(task);
    return true;
  }
  return false;
}

bool AsideQueue::has(const Wanted& wanted) const noexcept {
  const std::lock_guard<Lock> held(lock_);
  int looks = 0;
  for (const Task* task = newest_; task != nullptr && ++looks <= most_looks; task = task->older) {
    if (wanted.includes(task, task->scope)) return true;
  }
  return false;
}

bool AsideQueue::has_new() noexcept {
  const std::lock_guard<Lock> held(lock_);
  if (puts_ == puts_told_) return false;
  puts_told_ = puts_;
  return true;
}

}  // namespace antcrew::internal
