// Where in the source a crew was called: a default argument of its calls.
#pragma once

#include <atomic>

namespace antcrew {

struct CallPlace {
  static constexpr CallPlace here(const char* its_file = __builtin_FILE(), int its_line = __builtin_LINE()) noexcept {
    return {its_file, its_line};
  }
  const char* file = nullptr;
  int line = 0;
};

namespace internal {

class LaneBook;
// Open while a call is metered; null otherwise.
inline constinit std::atomic<LaneBook*> open_lanes{nullptr};

// Of the calling thread's last call while a log was open.
inline constinit thread_local CallPlace current_place = {};

inline bool places_wanted() noexcept {
  return open_lanes.load(std::memory_order_relaxed) != nullptr;
}
// Before a call that may begin a region.
inline void note_place(const CallPlace& at) noexcept {
  if (places_wanted()) [[unlikely]]
    current_place = at;
}

}  // namespace internal
}  // namespace antcrew
