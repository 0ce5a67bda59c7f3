// Random delays at the borders of pieces, to bring out races that a lucky schedule hides. Off unless races are looked
// for.
#pragma once

#include <atomic>
#include <cstdint>

#include "antcrew/machine/layer.hpp"

namespace antcrew::internal {

// 0 = off. Set before the crews it is meant for are used.
inline constinit std::atomic<std::uint64_t> delay_seed{0};

// Mostly nothing, sometimes a turn for others, a spin of microseconds or a sleep of up to half a millisecond.
void random_pause() noexcept;

inline bool delays_are_on() noexcept {
  return delay_seed.load(std::memory_order_relaxed) != 0;
}
inline void at_border() noexcept {
  if (delays_are_on()) random_pause();
}

}  // namespace antcrew::internal
