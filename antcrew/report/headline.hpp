// What was found, in one sentence.
#pragma once

#include <string>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/layers.hpp"

namespace antcrew::report_layer {

// About the largest point: the best variant with its workers and interval, or that none is faster, or that none holds.
std::string headline(const Analysed& study);

// `"split evenly" (ThreadCrew) with 2 workers`
std::string cell_in_words(const Cell& cell);

// "size 10,000, distinct 100"
std::string point_in_words(const Point& point);

}  // namespace antcrew::report_layer
