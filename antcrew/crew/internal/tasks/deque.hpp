// The tasks that one worker has begun and not yet run: it adds and takes at one end, others steal at the other.
//
//     top_            split_             bottom_
//      | public: stealable | private: owner's only |
//
// After Chase and Lev 2005, "Dynamic circular work-stealing deque", with the orders of Lê, Pop, Cohen and Zappa
// Nardelli 2013, "Correct and efficient work-stealing for weak memory models", their bottom being split_ here; and a
// private part above it (after Acar, Charguéraud and Rainey 2013, "Scheduling parallel programs by work stealing with
// private deques"), where adding and taking are plain loads and stores. The owner keeps the oldest few tasks public, so
// that a thief never depends on the owner coming by.
//
// Invariants. top_ only grows, by compare-and-swap; split_ and bottom_ are the owner's, top_ <= split_ <= bottom_ but
// for the moment in which the owner takes from the public part. A task belongs to whoever moved top_ past it, or to the
// owner once split_ is at or below it and top_ was then seen below it. Orders. A thief reads top_, then split_; the
// owner writes split_, then reads top_; all four sequentially consistent, so one of the two sees the other, and only
// for the last public task do both compare-and-swap. Writing split_ also releases the slots below it. Slots are atomic
// because a thief that will lose its swap may read one being reused.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <vector>

#include "antcrew/machine/jostle.hpp"

namespace antcrew::internal {

struct Task;

class Deque {
 public:
  // wanted: how many tasks are kept public while there are as many; 0 when nobody can steal.
  explicit Deque(std::int64_t wanted) : wanted_(wanted) { use(new_ring(256), 0); }
  Deque(const Deque&) = delete;
  Deque& operator=(const Deque&) = delete;

  // Owner. True when tasks became public: the caller then sees to it that somebody is awake.
  bool push(Task* task) {
    if (bottom_ >= full_at_) [[unlikely]]
      make_room();
    own_[bottom_ & mask_].store(task, std::memory_order_relaxed);
    ++bottom_;
    const std::int64_t top = top_.load(std::memory_order_relaxed);
    return own_split_ - top < wanted_ && expose(top);
  }

  // Owner. The task added last, or null. `exposed` is set when others became public.
  Task* pop(bool& exposed) {
    if (bottom_ == own_split_) return pop_public();
    --bottom_;
    Task* task = own_[bottom_ & mask_].load(std::memory_order_relaxed);
    exposed = false;
    if (bottom_ > own_split_) {
      const std::int64_t top = top_.load(std::memory_order_relaxed);
      if (own_split_ - top < wanted_) exposed = expose(top);
    }
    return task;
  }

  // Owner. Takes back `task` if it is the last one added and private: the common end of a fork.
  bool pop_if_private(const Task* task) noexcept {
    if (bottom_ == own_split_) return false;
    if (own_[(bottom_ - 1) & mask_].load(std::memory_order_relaxed) != task) return false;
    --bottom_;
    return true;
  }

  // Anyone. Null when nothing is public or another was faster.
  Task* steal() noexcept {
    std::int64_t top = top_.load(std::memory_order_seq_cst);
    if (top >= split_.load(std::memory_order_seq_cst)) return nullptr;
    at_border();
    Task* task = ring_.load(std::memory_order_acquire)->at(top).load(std::memory_order_relaxed);
    if (!top_.compare_exchange_strong(top, top + 1, std::memory_order_seq_cst)) return nullptr;
    return task;
  }

  // Anyone.
  bool has_public() const noexcept {
    return top_.load(std::memory_order_seq_cst) < split_.load(std::memory_order_seq_cst);
  }

  // Owner: room for so many tasks at once without an allocation.
  void reserve(std::int64_t tasks) {
    while (mask_ < tasks) grow(top_.load(std::memory_order_acquire));
  }

 private:
  struct Ring {
    explicit Ring(std::int64_t size_of)
        : size(size_of), slots(new std::atomic<Task*>[static_cast<std::size_t>(size)]) {}
    std::atomic<Task*>& at(std::int64_t i) const noexcept { return slots[static_cast<std::size_t>(i & (size - 1))]; }
    std::int64_t size;
    std::unique_ptr<std::atomic<Task*>[]> slots;
  };

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
    Task* task = own_[last & mask_].load(std::memory_order_relaxed);
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
  [[gnu::noinline, gnu::cold]] void make_room() {
    const std::int64_t top = top_.load(std::memory_order_acquire);
    full_at_ = top + mask_ + 1;
    if (bottom_ >= full_at_) grow(top);
  }

  Ring* new_ring(std::int64_t size) {
    rings_.push_back(std::make_unique<Ring>(size));
    return rings_.back().get();
  }

  // Old rings stay: a thief may still be reading one. Together they are smaller than the newest.
  void grow(std::int64_t top) {
    Ring* larger = new_ring(2 * (mask_ + 1));
    for (std::int64_t i = top; i < bottom_; ++i) {
      larger->at(i).store(own_[i & mask_].load(std::memory_order_relaxed), std::memory_order_relaxed);
    }
    use(larger, top);
  }

  alignas(64) std::atomic<std::int64_t> top_{0};
  std::atomic<std::int64_t> split_{0};
  std::atomic<Ring*> ring_{nullptr};
  alignas(64) std::int64_t bottom_ = 0;
  std::int64_t own_split_ = 0;         // what the owner last wrote to split_
  std::atomic<Task*>* own_ = nullptr;  // the slots of ring_
  std::int64_t mask_ = 0;
  std::int64_t full_at_ = 0;  // bottom_ may come up to here without a look at top_
  std::int64_t wanted_;
  std::vector<std::unique_ptr<Ring>> rings_;
};

}  // namespace antcrew::internal
