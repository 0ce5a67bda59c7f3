// Lets the first thread that comes pass without an atomic step, for as long as no other one comes; after that,
// everybody takes the lock that this stands before. What one thread fills alone costs it no locking.
//
// After Kawachiya, Koseki and Onodera 2002, "Lock reservation: Java locks can mostly do without atomic operations",
// with a barrier that the newcomer asks the kernel to run on all processors in place of the owner's own.
//
// Invariant: the owner is inside only while `inside_` is true and it has seen itself in `owner_` since setting it. A
// newcomer first takes the owner's name away, then waits until nobody is inside. For that one must see the other: the
// owner's store (inside_) and load (owner_) must not change places. Only the compiler is held to that; the processor is
// by the newcomer's barrier, between its store (owner_) and its load (inside_). Where the thread sanitizer watches, all
// four are sequentially consistent instead. Release and acquire on both words hand over what the owner wrote.
#pragma once

#include <atomic>
#include <cstdint>

namespace antcrew::internal {

#if defined(__SANITIZE_THREAD__)
inline constexpr std::memory_order owners_order = std::memory_order_seq_cst;
#elif defined(__has_feature)
#if __has_feature(thread_sanitizer)
inline constexpr std::memory_order owners_order = std::memory_order_seq_cst;
#else
inline constexpr std::memory_order owners_order = std::memory_order_relaxed;
#endif
#else
inline constexpr std::memory_order owners_order = std::memory_order_relaxed;
#endif

class SoleOwner {
 public:
  // True: nobody else is or will be let in until leave(). False: others have come; take the lock.
  bool enter() noexcept {
    const std::uintptr_t owner = owner_.load(std::memory_order_acquire);
    if (owner == shared) return false;
    const std::uintptr_t me = this_thread();
    if (owner != me && !claim()) return false;
    inside_.store(true, owners_order);
    std::atomic_signal_fence(std::memory_order_seq_cst);
    if (owner_.load(owners_order) == me) return true;
    leave();
    share();
    return false;
  }
  void leave() noexcept { inside_.store(false, std::memory_order_release); }

 private:
  enum : std::uintptr_t { nobody, shared, handing_over };  // no thread's mark

  static std::uintptr_t this_thread() noexcept {
    thread_local char mark;
    return reinterpret_cast<std::uintptr_t>(&mark);
  }
  bool claim() noexcept;
  void share() noexcept;

  std::atomic<std::uintptr_t> owner_{nobody};
  std::atomic<bool> inside_{false};
};

}  // namespace antcrew::internal
