// Where in the source a crew was called: a default argument of its calls.
#pragma once

namespace antcrew {

struct CallPlace {
  static constexpr CallPlace here(const char* its_file = __builtin_FILE(), int its_line = __builtin_LINE()) noexcept {
    return {its_file, its_line};
  }
  const char* file = nullptr;
  int line = 0;
};

namespace internal {

// Of the calling thread's last call while a log was open.
inline constinit thread_local CallPlace place_here = {};

}  // namespace internal
}  // namespace antcrew
