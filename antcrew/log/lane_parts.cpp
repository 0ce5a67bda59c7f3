#include "antcrew/log/lane_parts.hpp"

#include <numeric>

namespace antcrew::internal {

const char* name_of(LaneState state) noexcept {
  constexpr const char* names[] = {"running",     "blocked",   "waiting_to_run", "lock",     "stage",
                                   "moving_data", "serial",    "serial_wait",    "start_up", "dispatch",
                                   "no_work",     "imbalance", "unaccounted",    "message"};
  return names[static_cast<std::size_t>(state)];
}

double LaneParts::sum() const noexcept {
  return std::accumulate(seconds.begin(), seconds.end(), 0.0);
}

}  // namespace antcrew::internal
