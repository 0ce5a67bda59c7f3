// The stretches of a lane with the CPU time and run delay of each.
#pragma once

#include <cstddef>
#include <cstdint>
#include <vector>

#include "antcrew/log/lane_log.hpp"

namespace antcrew::internal {

inline double s_of(std::int64_t ns) noexcept {
  return static_cast<double>(ns) * 1e-9;
}

// One stretch of a lane with what it used.
struct Slice {
  std::int64_t begin_ns = 0;
  std::int64_t end_ns = 0;
  const Stretch* stretch = nullptr;  // null: after the lane's last one
  Doing doing = Doing::away;
  double cpu_s = 0;
  double delay_s = 0;
  bool never_slept = false;  // what it was off a processor, it was ready
  double wall_s() const noexcept { return s_of(end_ns - begin_ns); }
};

// Clears delay_known where the kernel did not tell run delays; adds to cpu_s what the kernel counted.
std::vector<Slice> slices_of(const LaneLog& log, std::size_t lane, bool& delay_known, double& cpu_s);

}  // namespace antcrew::internal
