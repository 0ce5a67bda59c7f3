// The states that a lane can be in, and lane-seconds by state.
#pragma once

#include <array>
#include <cstddef>

namespace antcrew::internal {

enum class LaneState {
  running,         // in a body, on a processor
  blocked,         // in a body, neither on a processor nor waiting for one
  waiting_to_run,  // runnable, and not running
  lock,
  stage,
  moving_data,
  serial,       // the caller, between regions
  serial_wait,  // the others meanwhile
  start_up,
  dispatch,
  no_work,
  imbalance,
  unaccounted,
  message  // in a body of a rank, for another rank
};
inline constexpr std::size_t lane_states = 14;
const char* name_of(LaneState state) noexcept;

struct LaneParts {
  std::array<double, lane_states> seconds{};
  double& operator[](LaneState state) noexcept { return seconds[static_cast<std::size_t>(state)]; }
  double operator[](LaneState state) const noexcept { return seconds[static_cast<std::size_t>(state)]; }
  double sum() const noexcept;
  friend bool operator==(const LaneParts&, const LaneParts&) = default;
};

}  // namespace antcrew::internal
