// The table of a study under way: what is known of each cell so far, and what is being tried.
#pragma once

#include <cstddef>
#include <string>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/layers.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {

// What is being tried just now.
struct Trying {
  std::size_t size = 0;
  std::string variant;
  int workers = 1;
};

// One line a cell of that size, at most so many with the head; where there are more, those with the most workers of
// each variant come first. Empty while nothing has been timed. Pure.
std::string table_so_far(const Analysed& study, const Trying& now, const Look& look, std::size_t most_lines);

}  // namespace antcrew::report_layer
