#include "antcrew/analysis/thresholds.hpp"

namespace antcrew::analysis_layer {

const int least_for_interval = 6;
const std::size_t most_rivals = 3;
const int least_confirming = 9;

}  // namespace antcrew::analysis_layer
