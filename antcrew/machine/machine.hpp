// This machine as a study's record keeps it: name, processors, limits, clock.
#pragma once

#include <string>

#include "antcrew/base/layers.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/topology.hpp"

namespace antcrew::machine_layer {

struct Machine {
  std::string processor;  // model name as the kernel gives it; empty = unknown
  std::string system;     // kernel name and release
  Topology topology;
  Limits limits;
  ClockFacts clock;
  double load_1min = 0;  // runnable threads of the whole machine, averaged over the last minute

  int usable_processors() const noexcept { return limits.usable_processors(); }
};

// Reads everything afresh; takes some milliseconds, most of them for the clock.
Machine this_machine();

}  // namespace antcrew::machine_layer
