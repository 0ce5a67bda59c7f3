// Whether an object was made in this process, or inherited from one that forked this process.
#pragma once

#include "antcrew/machine/forks.hpp"

namespace antcrew::internal {

// What was made at another depth has lost its threads. Throws Error (crew.forked) in a process that was forked after
// the crew had been made.
[[noreturn]] void refuse_inherited(const char* crew);
inline void refuse_if_inherited(int made_at, const char* crew) {
  if (made_at != fork_depth()) [[unlikely]]
    refuse_inherited(crew);
}

}  // namespace antcrew::internal
