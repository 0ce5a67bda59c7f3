// The table of a study under way: what is known of each cell so far.
#pragma once

#include <cstddef>
#include <string>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/report/layer.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {

// One line a cell of that point, at most so many with the head; where there are more, those with the most workers of
// each variant come first. Empty while nothing has been timed. Pure.
std::string progress_table(const Analysed& study, std::size_t point, const Look& look, std::size_t most_lines);

}  // namespace antcrew::report_layer
