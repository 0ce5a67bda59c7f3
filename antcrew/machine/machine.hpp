// This machine as a study's record keeps it: name, processors, limits, clock.
#pragma once

#include <optional>
#include <string>

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/layer.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/topology.hpp"

namespace antcrew::machine_layer {

// How the machine is set, as far as it can be read: empty or absent = unknown.
struct Settings {
  std::string governor;          // of the processors' frequency, such as "performance"
  std::optional<bool> boost;     // processors may run above their nominal frequency
  std::optional<bool> siblings;  // cores run several hardware threads
  std::string large_pages;       // when memory gets large pages by itself: "always", "madvise" or "never"
  std::string counters;          // hardware counters: "counted", or why the kernel refused
};

struct Machine {
  std::string processor;  // model name as the kernel gives it; empty = unknown
  std::string system;     // kernel name and release
  Topology topology;
  Limits limits;
  ClockFacts clock;
  double load_1min = 0;  // runnable threads of the whole machine, averaged over the last minute
  Settings settings = {};

  int usable_processors() const noexcept { return limits.usable_processors(); }
};

// Reads everything afresh; takes some milliseconds, most of them for the clock.
Machine this_machine();

}  // namespace antcrew::machine_layer
