// Before and after, in words and as JSON.
#pragma once

#include <string>

#include "antcrew/analysis/compare.hpp"
#include "antcrew/report/layer.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {

// now: the study that the cells of `after` belong to.
std::string compare_text(const Comparison& found, const Analysed& now, const Look& look);
std::string compare_json(const Comparison& found, const Analysed& now);

}  // namespace antcrew::report_layer
