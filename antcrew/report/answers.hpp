// What the baseline and each variant answered, in short.
#pragma once

#include <string>

#include "antcrew/record/forward.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

// Point by point: the baseline's, those that look different, and how many look the same.
std::string answers_text(const Record& record);

}  // namespace antcrew::report_layer
