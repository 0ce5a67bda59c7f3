// What may be tuned and is used by several sources. Declared here alone, so that a changed one is compiled in one file.
#pragma once

#include <cstddef>

#include "antcrew/analysis/layer.hpp"

namespace antcrew::analysis_layer {

// Under so many values there is no interval, only the range that was seen.
extern const int least_for_interval;

// How many rivals are tried again beside the leader, at most.
extern const std::size_t most_rivals;

// The fewest rounds of a confirmation, and by which it counts when it was cut short.
extern const int least_confirming;

}  // namespace antcrew::analysis_layer
