// What it takes to write a log.
#pragma once

#include "antcrew/log/lane_log.hpp"

namespace antcrew::internal {

// What writing down costs on this machine, measured once: some 0.2 ms.
struct LogCosts {
  double event_s = 0;
  double cpu_reading_s = 0;
  double delay_reading_s = 0;
  double fork_told_s = 0;  // seven readings of the clock, and little else
};
const LogCosts& log_costs();
// What writing this log took.
double metering_of(const LaneLog& log);

}  // namespace antcrew::internal
