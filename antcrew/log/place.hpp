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
// Of the call that the calling thread's calls of crews are part of; no file = they stand for themselves.
inline constinit thread_local CallPlace outer_place = {};

// Before a call that may begin a region.
inline void note_place(const CallPlace& at) noexcept {
  if (places_wanted()) [[unlikely]]
    current_place = outer_place.file == nullptr ? at : outer_place;
}

// While it lives, what the calling thread asks of crews is asked at this place: for code that calls them on behalf of
// its own caller. Of several inside each other the outermost counts.
class CallsFrom {
 public:
  explicit CallsFrom(const CallPlace& at) noexcept : outermost_(places_wanted() && outer_place.file == nullptr) {
    if (outermost_) [[unlikely]]
      outer_place = at;
  }
  ~CallsFrom() {
    if (outermost_) [[unlikely]]
      outer_place = {};
  }
  CallsFrom(const CallsFrom&) = delete;
  CallsFrom& operator=(const CallsFrom&) = delete;

 private:
  bool outermost_;
};

}  // namespace internal
}  // namespace antcrew
