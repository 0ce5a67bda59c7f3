// The monotonic clock every time in Ant Crew comes from, and what reading it costs.
//
// Any thread may call these. Times are nanoseconds since an arbitrary start; only differences mean something.
#pragma once

#include <cstdint>

#include "antcrew/machine/layer.hpp"

namespace antcrew {

std::int64_t now_ns() noexcept;

inline double seconds_since(std::int64_t start_ns) noexcept {
  return static_cast<double>(now_ns() - start_ns) * 1e-9;
}

// CPU time (user and system) used so far by the calling thread, by the whole process.
std::int64_t thread_cpu_ns() noexcept;
std::int64_t process_cpu_ns() noexcept;

// Time that this machine has slept since it was started: now_ns() stands still meanwhile.
double asleep_s() noexcept;

struct ClockFacts {
  double resolution_ns = 0;  // smallest step seen between two readings that differ
  double read_ns = 0;        // one reading, median of many batches
};

// Takes about a millisecond.
ClockFacts measure_clock();

}  // namespace antcrew
