// What else the machine does: processors that other programs keep busy, and time the hypervisor or a quota takes.
//
// Readings grow; differences belong to what happened in between. Resolution is that of the kernel's ticks, about 10 ms.
#pragma once

#include "antcrew/machine/layer.hpp"

namespace antcrew::machine_layer {

struct MachineTimes {
  double busy_s = 0;       // processor-seconds spent on anything, by anybody
  double steal_s = 0;      // processor-seconds that a hypervisor gave to others
  double throttled_s = 0;  // this control group was held back by its quota
};

MachineTimes machine_times();

// Processors that other programs keep busy just now, looked at for `seconds` while the caller sleeps.
double other_load(double seconds);

}  // namespace antcrew::machine_layer
