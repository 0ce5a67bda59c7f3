// Scopes of a pool: made a few at a time, never freed while it lives, and given back to whoever runs short.
#include <mutex>

#include "antcrew/crew/internal/tasks/task_pool.hpp"

namespace antcrew::internal {

// Under the lock.
void TaskPool::make_scopes() {
  scopes_.reserve(scopes_.size() + 1);
  auto made = std::make_unique<Scope[]>(scopes_at_once);
  for (int k = 0; k < scopes_at_once; ++k) free_scopes_.give(&made[static_cast<std::size_t>(k)]);
  scopes_.push_back(std::move(made));
}

Scope* TaskPool::more_scopes(FreeScopes& list) {
  const std::lock_guard<Lock> held(scopes_lock_);
  for (int k = 1; k < scopes_at_once / 2; ++k) {
    Scope* scope = free_scopes_.take();
    if (scope == nullptr) {
      make_scopes();
      scope = free_scopes_.take();
    }
    list.give(scope);
  }
  return list.take();
}

void TaskPool::take_back_scopes(FreeScopes& list, int count) noexcept {
  const std::lock_guard<Lock> held(scopes_lock_);
  for (int k = 0; k < count; ++k) free_scopes_.give(list.take());
}

Scope* TaskPool::open_scope(const Scope* parent, bool begun) {
  Scope* scope = nullptr;
  if (TaskWorker* worker = here()) {
    scope = worker->free_scopes_.take();
    if (scope == nullptr) scope = more_scopes(worker->free_scopes_);
  } else {
    const std::lock_guard<Lock> held(scopes_lock_);
    scope = free_scopes_.take();
    if (scope == nullptr) {
      make_scopes();
      scope = free_scopes_.take();
    }
  }
  begin_life(*scope, parent, begun);
  return scope;
}

void TaskPool::close_scope(Scope* scope) noexcept {
  if (TaskWorker* worker = here()) return worker->close_scope(scope);
  end_life(*scope);
  const std::lock_guard<Lock> held(scopes_lock_);
  free_scopes_.give(scope);
}

}  // namespace antcrew::internal
