// An analysed study as a table for a terminal.
#pragma once

#include <cstddef>
#include <string>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/layers.hpp"

namespace antcrew::report_layer {

// The sentence, the table grouped by point, the evidence of every cell that does not hold, and the warnings. `width`
// in columns; 0 = as wide as it likes (for pipes and files).
std::string table_text(const Analysed& study, std::size_t width);

}  // namespace antcrew::report_layer
