// What stands beside the figures: an unoptimised build, a machine that was not quiet, workers that took turns.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/layers.hpp"

namespace antcrew::analysis_layer {

// One sentence each, without a full stop.
std::vector<std::string> warnings_of(const Analysed& study);

}  // namespace antcrew::analysis_layer
