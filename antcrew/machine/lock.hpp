// A lock of one word: looks briefly, then sleeps in the kernel (Drepper 2005, "Futexes are tricky").
#pragma once

#include <atomic>
#include <cstdint>

#include "antcrew/machine/layer.hpp"
#include "antcrew/machine/parking.hpp"

namespace antcrew::internal {

class Lock {
 public:
  // Acquire and release: what one holder wrote, the next one sees.
  bool try_lock() noexcept {
    std::uint32_t seen = unlocked;
    return word_.compare_exchange_strong(seen, locked, std::memory_order_acquire, std::memory_order_relaxed);
  }
  void lock() noexcept {
    if (!try_lock()) wait();
  }
  void unlock() noexcept {
    if (word_.exchange(unlocked, std::memory_order_release) == awaited) wake_one(word_);
  }

 private:
  enum : std::uint32_t { unlocked, locked, awaited };  // awaited: somebody may sleep

  [[gnu::noinline]] void wait() noexcept {
    for (int look = 0; look < 100; ++look) {
      if (word_.load(std::memory_order_relaxed) == unlocked && try_lock()) return;
      relax();
    }
    while (word_.exchange(awaited, std::memory_order_acquire) != unlocked) sleep_while(word_, awaited);
  }

  std::atomic<std::uint32_t> word_{unlocked};
};

// For the length of a scope.
class LockHeld {
 public:
  explicit LockHeld(Lock& lock) noexcept : lock_(lock) { lock_.lock(); }
  ~LockHeld() { lock_.unlock(); }
  LockHeld(const LockHeld&) = delete;
  LockHeld& operator=(const LockHeld&) = delete;

 private:
  Lock& lock_;
};

}  // namespace antcrew::internal
