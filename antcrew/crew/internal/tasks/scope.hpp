// What a task belongs to, so that a worker which waits takes up nothing but what it waits for.
//
// A scope is a loop, a group, a run of a graph, a piece of begun work, or the run of a fork that was stolen. A task
// lies in its queue together with the scope that it belongs to. A task descends from what is waited for when that is
// its scope, or the parent of its scope, and so on. (Wagner and Calder 1993, "Leapfrogging", wait so for forks.)
//
// Whoever looks at a task that lies with another worker reads scopes that may just be given back and taken again. So
// they are never freed while their pool lives (supply.hpp), their fields are atomic, and a scope has a life number
// which goes up when it is given back. Invariant: as long as a task lies in a queue, its scope and the scopes above it
// do not change. So what was found out about a task holds if the task could then be taken, and is forgotten if it could
// not.
#pragma once

#include <atomic>
#include <cstdint>

namespace antcrew::internal {

struct Scope;
class TaskWorker;

// One life of a scope.
struct ScopeName {
  const Scope* scope = nullptr;
  std::uint32_t life = 0;
  explicit operator bool() const noexcept { return scope != nullptr; }
};

struct Scope {
  ScopeName name() const noexcept { return {this, life.load(std::memory_order_relaxed)}; }

  std::atomic<const Scope*> parent{nullptr};
  std::atomic<std::uint32_t> parent_life{0};
  std::atomic<std::uint32_t> life{0};
  std::atomic<std::uint32_t> depth{0};
  std::atomic<bool> begun{false};  // of work whose handle may be dropped
  // Of begun work: for which call its handle was dropped, or nobody's; in the upper half this scope's life, so that
  // whoever comes too late, when the work has ended and the scope serves something else, changes nothing.
  std::atomic<std::uint64_t> dropped_for{0};
  std::atomic<TaskWorker*> call{
      nullptr};  // the caller in whose call it was opened; null outside of any, and in begun work
  std::atomic<std::uint32_t> call_life{0};
  Scope* next = nullptr;  // of those not in use
};

// What dropped work is dropped for: the call of a caller, by its place; nobody's, outside of any.
using DroppedFor = std::uint32_t;
inline constexpr DroppedFor not_dropped = 0;
inline constexpr DroppedFor dropped_for_nobody = ~DroppedFor{0};

// By who takes it from a free list, and before giving it back.
inline void begin_life(Scope& scope, const Scope* parent, bool begun) noexcept {
  const bool top = parent == nullptr;
  scope.parent.store(parent, std::memory_order_relaxed);
  scope.parent_life.store(top ? 0 : parent->life.load(std::memory_order_relaxed), std::memory_order_relaxed);
  scope.depth.store(top ? 0 : parent->depth.load(std::memory_order_relaxed) + 1, std::memory_order_relaxed);
  scope.begun.store(begun, std::memory_order_relaxed);
  scope.dropped_for.store(std::uint64_t{scope.life.load(std::memory_order_relaxed)} << 32, std::memory_order_relaxed);
  scope.call.store(top ? nullptr : parent->call.load(std::memory_order_relaxed), std::memory_order_relaxed);
  scope.call_life.store(top ? 0 : parent->call_life.load(std::memory_order_relaxed), std::memory_order_relaxed);
}
// Relaxed: whoever waits for it was told by the drop itself.
inline void mark_dropped(Scope& scope, std::uint32_t life, DroppedFor whom) noexcept {
  std::uint64_t mine = std::uint64_t{life} << 32;
  scope.dropped_for.compare_exchange_strong(mine, mine | whom, std::memory_order_relaxed);
}
inline DroppedFor dropped_for(const Scope& scope) noexcept {
  const std::uint64_t mark = scope.dropped_for.load(std::memory_order_relaxed);
  return mark >> 32 == scope.life.load(std::memory_order_relaxed) ? static_cast<DroppedFor>(mark) : not_dropped;
}
inline void end_life(Scope& scope) noexcept {
  scope.life.store(scope.life.load(std::memory_order_relaxed) + 1, std::memory_order_relaxed);
}

// Relaxed: see the invariant. The depths go down on the way up, so the walk ends whatever it reads.
inline bool descends(const Scope* from, ScopeName wanted) noexcept {
  const std::uint32_t top = wanted.scope->depth.load(std::memory_order_relaxed);
  for (std::uint32_t below = ~std::uint32_t{0}; from != nullptr;) {
    const std::uint32_t depth = from->depth.load(std::memory_order_relaxed);
    if (from == wanted.scope) return from->life.load(std::memory_order_relaxed) == wanted.life;
    if (depth <= top || depth >= below) return false;
    below = depth;
    const Scope* parent = from->parent.load(std::memory_order_relaxed);
    if (parent == nullptr) return false;
    if (parent->life.load(std::memory_order_relaxed) != from->parent_life.load(std::memory_order_relaxed)) return false;
    from = parent;
  }
  return false;
}

}  // namespace antcrew::internal
