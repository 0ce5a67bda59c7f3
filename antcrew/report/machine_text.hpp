// This machine, for people.
#pragma once

#include <string>

#include "antcrew/machine/machine.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

// others_busy: processors that other programs keep busy just now.
std::string machine_text(const Machine& machine, double others_busy);

}  // namespace antcrew::report_layer
