// Looking for a while, and then sleeping in the kernel until woken.
#pragma once

#include <atomic>
#include <cstdint>

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/layer.hpp"

namespace antcrew::internal {

// Whether the calling thread is in one of the sleeps below: whoever counts waits passes those over.
bool sleeps_here() noexcept;

// How long a worker looks for work, and a caller for the last worker, before sleeping. A wake-up costs 5 to 40 µs, so
// looking longer than that loses more than it saves.
inline constexpr std::int64_t look_ns = 25'000;

// Sleeps while the word has this value; may wake for no reason.
void sleep_while(std::atomic<std::uint32_t>& word, std::uint32_t value) noexcept;
void sleep_while(std::atomic<std::uint32_t>& word, std::uint32_t value, std::int64_t longest_ns) noexcept;
void wake_one(std::atomic<std::uint32_t>& word) noexcept;
void wake_all(std::atomic<std::uint32_t>& word) noexcept;

// The same on a word in memory that several processes share; sleeps for a limited time.
void sleep_while_shared(std::atomic<std::uint32_t>& word, std::uint32_t value, std::int64_t longest_ns) noexcept;
void sleep_while_shared(std::atomic<std::uint32_t>& word, std::uint32_t value) noexcept;
void wake_all_shared(std::atomic<std::uint32_t>& word) noexcept;

// Lets another thread have the processor, if one waits for it.
void give_way() noexcept;

// Leaves the core's resources to whoever shares it, for some ten nanoseconds.
inline void relax() noexcept {
#if defined(__x86_64__)
  __builtin_ia32_pause();
#elif defined(__aarch64__)
  asm volatile("isb" ::: "memory");  // "yield" returns at once on most of them
#endif
}

// Looks until done() or until look_ns have passed; the first looks follow each other at once, for short waits.
template <class Done>
bool looked(Done done) {
  for (int i = 0; i < 1000; ++i) {
    if (done()) return true;
  }
  const std::int64_t end = now_ns() + look_ns;
  do {
    for (int i = 0; i < 16; ++i) {
      if (done()) return true;
      relax();
    }
  } while (now_ns() < end);
  return false;
}

}  // namespace antcrew::internal
