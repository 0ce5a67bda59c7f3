// What a jostle found, for people.
#pragma once

#include <string>

#include "antcrew/report/layer.hpp"
#include "antcrew/study/jostle.hpp"

namespace antcrew::report_layer {

std::string jostle_text(const JostleReport& report, std::size_t width);

}  // namespace antcrew::report_layer
