// Whether an object was made in this process, or inherited from one that forked this process.
#pragma once

#include <atomic>

namespace antcrew::internal {

// Forks between the first process and this one. What was made at another depth has lost its threads.
inline constinit std::atomic<int> fork_depth_now{0};
inline int fork_depth() noexcept {
  return fork_depth_now.load(std::memory_order_relaxed);
}

// Throws Error (crew.forked) in a process that was forked after the crew had been made.
[[noreturn]] void refuse_inherited(const char* crew);
inline void refuse_if_inherited(int made_at, const char* crew) {
  if (made_at != fork_depth()) [[unlikely]]
    refuse_inherited(crew);
}

}  // namespace antcrew::internal
