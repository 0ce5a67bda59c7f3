// A described figure as JSON, for the page and for programs.
#pragma once

#include "antcrew/record/json.hpp"
#include "antcrew/report/figure.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

// Fields as in figure.hpp; series with their marker and dash, and the places of the names at the ends of lines.
Json figure_json(const Figure& figure);

}  // namespace antcrew::report_layer
