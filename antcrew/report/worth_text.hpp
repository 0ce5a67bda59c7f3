// The size from which on a variant pays: in words, and as a rule that a program loads.
#pragma once

#include <string>

#include "antcrew/analysis/worth.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

std::string worth_text(const Analysed& study, const Worth& worth);

// JSON, as antcrew/study/rule.hpp reads it.
std::string worth_rule(const Analysed& study, const Worth& worth);

}  // namespace antcrew::report_layer
