// A described figure as JSON, for the page and for programs.
#pragma once

#include <nlohmann/json_fwd.hpp>

#include "antcrew/base/layers.hpp"
#include "antcrew/report/figure.hpp"

namespace antcrew::report_layer {

// Fields as in figure.hpp; series with their marker and dash, and the places of the names at the ends of lines.
nlohmann::ordered_json figure_json(const Figure& figure);

}  // namespace antcrew::report_layer
