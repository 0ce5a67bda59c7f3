// What stands beside the figures: an unoptimised build, a machine that was not quiet, workers that took turns.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/analysed.hpp"

namespace antcrew {

// One sentence each, without a full stop.
std::vector<std::string> warnings_of(const Analysed& study);

}  // namespace antcrew
