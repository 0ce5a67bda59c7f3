// How far to trust a study, in one line: machine, rounds, noise, build.
#pragma once

#include <string>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

std::string confidence_line(const Analysed& study);

}  // namespace antcrew::report_layer
