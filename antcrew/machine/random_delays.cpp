#include "antcrew/machine/random_delays.hpp"

#include <sched.h>
#include <time.h>

#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {
namespace {

// Marsaglia 2003, "Xorshift RNGs". Each thread draws from a sequence of its own.
std::uint64_t draw() noexcept {
  static std::atomic<std::uint64_t> threads{0};
  thread_local std::uint64_t state = 0;
  if (state == 0) {
    state = delay_seed.load(std::memory_order_relaxed) +
            0x9E3779B97F4A7C15u * (threads.fetch_add(1, std::memory_order_relaxed) + 1);
    if (state == 0) state = 1;
  }
  state ^= state << 13;
  state ^= state >> 7;
  state ^= state << 17;
  return state;
}

}  // namespace

void random_pause() noexcept {
  const std::uint64_t drawn = draw();
  switch (drawn % 8) {
    case 0:
      sched_yield();
      return;
    case 1: {
      const std::int64_t end = now_ns() + static_cast<std::int64_t>((drawn >> 8) % 50'000);
      while (now_ns() < end) {
      }
      return;
    }
    case 2: {
      const timespec rest{0, static_cast<long>((drawn >> 8) % 500'000)};
      nanosleep(&rest, nullptr);
      return;
    }
    default:
      return;
  }
}

}  // namespace antcrew::internal
