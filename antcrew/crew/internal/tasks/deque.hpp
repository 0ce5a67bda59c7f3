// The tasks that one worker has begun and not yet run: it adds and takes at one end, others steal at the other.
//
//     top_            split_             bottom_
//      | public: stealable | private: owner's only |
//
// After Chase and Lev 2005, "Dynamic circular work-stealing deque", with the orders of Lê, Pop, Cohen and Zappa
// Nardelli 2013, "Correct and efficient work-stealing for weak memory models", their bottom being split_ here; and a
// private part above it (after Acar, Charguéraud and Rainey 2013, "Scheduling parallel programs by work stealing with
// private deques"), where adding and taking are plain loads and stores. The owner keeps the oldest few forks public, so
// that a thief seldom depends on the owner coming by; all else that it adds is public at once, with what lies below.
//
// Invariants. top_ only grows, by compare-and-swap; split_ and bottom_ are the owner's, top_ <= split_ <= bottom_ but
// for the moment in which the owner takes from the public part. A task belongs to whoever moved top_ past it, or to the
// owner once split_ is at or below it and top_ was then seen below it. Orders. A thief reads top_, then split_; the
// owner writes split_, then reads top_; all four sequentially consistent, so one of the two sees the other, and only
// for the last public task do both compare-and-swap. Writing split_ also releases the slots below it. Slots are atomic
// because a thief that will lose its swap may read one being reused: what it read then, task or scope, it drops.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <vector>

#include "antcrew/base/owned.hpp"
#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/random_delays.hpp"

namespace antcrew::internal {

struct Task;
struct Scope;

// A task and what it belongs to.
struct Found {
  Task* task = nullptr;
  Scope* scope = nullptr;
  explicit operator bool() const noexcept { return task != nullptr; }
};

// What adding a task came to. full: it was not added, there is no memory for a larger ring.
enum class Pushed { kept, exposed, full };

class Deque {
 public:
  // wanted: how many forks are kept public while there are as many; 0 when nobody can steal.
  explicit Deque(std::int64_t wanted) : wanted_(wanted) { use(new_ring(256), 0); }
  Deque(const Deque&) = delete;
  Deque& operator=(const Deque&) = delete;

  // Owner. A fork: perhaps private. When tasks became public the caller sees to it that somebody is awake.
  Pushed push(Task* task, Scope* scope) noexcept {
    if (bottom_ >= full_at_ && !make_room()) [[unlikely]]
      return Pushed::full;
    put(task, scope);
    const std::int64_t top = top_.load(std::memory_order_relaxed);
    return own_split_ - top < wanted_ && expose(top) ? Pushed::exposed : Pushed::kept;
  }

  // Owner. Public, and all that lies below it.
  Pushed push_public(Task* task, Scope* scope) noexcept {
    if (bottom_ >= full_at_ && !make_room()) [[unlikely]]
      return Pushed::full;
    put(task, scope);
    own_split_ = bottom_;
    split_.store(bottom_, std::memory_order_seq_cst);
    return Pushed::exposed;
  }

  // Owner. The task added last, or null. `exposed` is set when others became public.
  Task* pop(bool& exposed) noexcept {
    exposed = false;
    if (bottom_ == own_split_) return pop_public();
    --bottom_;
    Task* task = own_[bottom_ & mask_].task.load(std::memory_order_relaxed);
    if (bottom_ > own_split_) {
      const std::int64_t top = top_.load(std::memory_order_relaxed);
      if (own_split_ - top < wanted_) exposed = expose(top);
    }
    return task;
  }

  // Owner. Takes back `task` if it is the last one added and private: the common end of a fork.
  bool pop_if_private(const Task* task) noexcept {
    if (bottom_ == own_split_) return false;
    if (own_[(bottom_ - 1) & mask_].task.load(std::memory_order_relaxed) != task) return false;
    --bottom_;
    return true;
  }

  // Owner. What pop() would give, unless a thief is faster; nothing when all has been taken.
  Found last() const noexcept {
    if (top_.load(std::memory_order_relaxed) >= bottom_) return {};
    const Slot& slot = own_[(bottom_ - 1) & mask_];
    return {slot.task.load(std::memory_order_relaxed), slot.scope.load(std::memory_order_relaxed)};
  }

  // Anyone. The oldest task if wanted(found) holds for it. Nothing when it does not, when nothing is public, or when
  // another was faster. What wanted() sees may be gone already: it must not look into the task.
  template <class Wanted>
  Found steal(const Wanted& wanted) noexcept {
    std::int64_t top = top_.load(std::memory_order_seq_cst);
    if (top >= split_.load(std::memory_order_seq_cst)) return {};
    at_border();
    const Found found = ring_.load(std::memory_order_acquire)->read(top);
    if (!wanted(found) || !top_.compare_exchange_strong(top, top + 1, std::memory_order_seq_cst)) return {};
    return found;
  }
  Found steal() noexcept {
    return steal([](const Found&) { return true; });
  }

  // Anyone. What steal() would look at, if there is anything.
  Found oldest() const noexcept {
    const std::int64_t top = top_.load(std::memory_order_seq_cst);
    if (top >= split_.load(std::memory_order_seq_cst)) return {};
    return ring_.load(std::memory_order_acquire)->read(top);
  }

  // Anyone.
  bool has_public() const noexcept {
    return top_.load(std::memory_order_seq_cst) < split_.load(std::memory_order_seq_cst);
  }

  // Owner: room for so many tasks at once without an allocation, if there is memory for it.
  void reserve(std::int64_t tasks) noexcept {
    while (mask_ < tasks && grow(top_.load(std::memory_order_acquire))) {
    }
  }

 private:
  struct Slot {
    std::atomic<Task*> task;
    std::atomic<Scope*> scope;
  };
  struct Ring {
    explicit Ring(std::int64_t size_of) : size(size_of), slots(static_cast<std::size_t>(size)) {}
    Slot& at(std::int64_t i) const noexcept { return slots[static_cast<std::size_t>(i & (size - 1))]; }
    Found read(std::int64_t i) const noexcept {
      return {at(i).task.load(std::memory_order_relaxed), at(i).scope.load(std::memory_order_relaxed)};
    }
    std::int64_t size;
    OwnedArray<Slot> slots;
  };

  void put(Task* task, Scope* scope) noexcept {
    Slot& slot = own_[bottom_ & mask_];
    slot.task.store(task, std::memory_order_relaxed);
    slot.scope.store(scope, std::memory_order_relaxed);
    ++bottom_;
  }

  [[gnu::noinline]] bool expose(std::int64_t top) noexcept {
    const std::int64_t split = bottom_ - top < wanted_ ? bottom_ : top + wanted_;
    if (split <= own_split_) return false;
    own_split_ = split;
    split_.store(split, std::memory_order_seq_cst);
    return true;
  }

  Task* pop_public() noexcept {
    if (top_.load(std::memory_order_relaxed) >= own_split_) return nullptr;
    const std::int64_t last = own_split_ - 1;
    split_.store(last, std::memory_order_seq_cst);
    std::int64_t top = top_.load(std::memory_order_seq_cst);
    Task* task = own_[last & mask_].task.load(std::memory_order_relaxed);
    if (top < last) {
      own_split_ = bottom_ = last;
      return task;
    }
    at_border();
    if (top > last || !top_.compare_exchange_strong(top, top + 1, std::memory_order_seq_cst)) task = nullptr;
    split_.store(last + 1, std::memory_order_seq_cst);
    return task;
  }

  void use(Ring* ring, std::int64_t top) noexcept {
    ring_.store(ring, std::memory_order_release);
    own_ = ring->slots.get();
    mask_ = ring->size - 1;
    full_at_ = top + ring->size;
  }

  // Acquire: the thieves that moved top_ have read what they took, so its slots may be used again.
  [[gnu::noinline, gnu::cold]] bool make_room() noexcept {
    const std::int64_t top = top_.load(std::memory_order_acquire);
    full_at_ = top + mask_ + 1;
    return bottom_ < full_at_ || grow(top);
  }

  Ring* new_ring(std::int64_t size) {
    rings_.reserve(rings_.size() + 1);
    rings_.push_back(Owned<Ring>(new Ring(size)));
    return rings_.back().get();
  }

  // Old rings stay: a thief may still be reading one. Together they are smaller than the newest. False without memory.
  bool grow(std::int64_t top) noexcept {
    Ring* larger = nullptr;
    try {
      larger = new_ring(2 * (mask_ + 1));
    } catch (...) {
      return false;
    }
    for (std::int64_t i = top; i < bottom_; ++i) {
      const Slot& from = own_[i & mask_];
      larger->at(i).task.store(from.task.load(std::memory_order_relaxed), std::memory_order_relaxed);
      larger->at(i).scope.store(from.scope.load(std::memory_order_relaxed), std::memory_order_relaxed);
    }
    use(larger, top);
    return true;
  }

  alignas(line_bytes) std::atomic<std::int64_t> top_{0};
  std::atomic<std::int64_t> split_{0};
  std::atomic<Ring*> ring_{nullptr};
  alignas(line_bytes) std::int64_t bottom_ = 0;
  std::int64_t own_split_ = 0;  // what the owner last wrote to split_
  Slot* own_ = nullptr;         // the slots of ring_
  std::int64_t mask_ = 0;
  std::int64_t full_at_ = 0;  // bottom_ may come up to here without a look at top_
  std::int64_t wanted_;
  std::vector<Owned<Ring>> rings_;
};

}  // namespace antcrew::internal
