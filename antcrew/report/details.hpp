// All that was seen of one variant besides its time: what its calls used, phases, counters, checks, prints.
#pragma once

#include <string>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

// variant: a name, or name (crew); "baseline" for that. Throws Error (cli.variant) when the record has no such one.
std::string details_text(const Analysed& study, const std::string& variant);

}  // namespace antcrew::report_layer
