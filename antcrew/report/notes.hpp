// What stands below a table: evidence, ladders, phases, crowd control, warnings.
#pragma once

#include <string>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/base/layers.hpp"

namespace antcrew::report_layer {

// Each part only when there is something to say. Lines are as long as they come.
std::string notes_text(const Analysed& study);

}  // namespace antcrew::report_layer
