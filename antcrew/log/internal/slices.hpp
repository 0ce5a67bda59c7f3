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

// From when to when.
struct Stretched {
  std::int64_t begin_ns = 0;
  std::int64_t end_ns = 0;
};
// When some lane moves data and none is in a body, in order: whoever is idle then waits for that.
std::vector<Stretched> moving_alone(const std::vector<std::vector<Slice>>& lanes);
// How much of them lies in from … to.
double while_moving_s(const std::vector<Stretched>& moving, std::int64_t from, std::int64_t to);

}  // namespace antcrew::internal
