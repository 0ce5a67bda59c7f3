// What a fork costs its parent afterwards: page faults on memory that it made shared.
#pragma once

#include <cstdint>

namespace antcrew::internal {

// Seconds that one such fault takes, measured once in a process.
double fault_cost_s();

// Counts them for one crew. Not thread-safe.
class AfterFork {
 public:
  // A region's workers have ended: from here on faults are put down to its forks …
  void mark() noexcept;
  // … up to here.
  void settle() noexcept;
  std::int64_t faults() const noexcept { return settled_ + since_mark(); }
  // Settles, and logs what was not logged yet as a phase of the study under way.
  void log() noexcept;

 private:
  std::int64_t since_mark() const noexcept;

  std::int64_t own_mark_ = -1;  // -1 = nothing to settle
  std::int64_t taken_back_mark_ = -1;
  std::int64_t settled_ = 0;
  std::int64_t logged_ = 0;
};

}  // namespace antcrew::internal
