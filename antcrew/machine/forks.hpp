// How many forks lie between the first process and this one, and which thread this is.
#pragma once

#include <atomic>
#include <cstdint>

#include "antcrew/machine/layer.hpp"

namespace antcrew::internal {

inline constinit std::atomic<int> fork_depth_now{0};
// Begins counting, once, before main(): in every program that has a file that looks at the depth.
bool count_forks() noexcept;
inline const bool forks_are_counted = count_forks();
inline int fork_depth() noexcept {
  return fork_depth_now.load(std::memory_order_relaxed);
}

// The kernel's number of the calling thread, looked up once a thread and process.
std::uint32_t kernel_thread() noexcept;

}  // namespace antcrew::internal
