// Findings and ledgers for programs.
#pragma once

#include <string>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

// {"findings": […], "ledgers": […]}: docs/explain.md lists the fields.
std::string explanation_json(const Analysed& study, bool timelines = false);

}  // namespace antcrew::report_layer
