// Before and after, in words and as JSON.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/compare.hpp"
#include "antcrew/report/layer.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {

// now: the study that the cells of `after` belong to.
std::string compare_text(const Comparison& found, const Analysed& now, const Look& look);
// The first sentence of it alone, and its table: heads first, then a row a cell.
std::string compared_in_words(const Comparison& found, const Analysed& now);
std::vector<std::vector<std::string>> compared_rows(const Comparison& found, const Analysed& now);
std::string compare_json(const Comparison& found, const Analysed& now);

}  // namespace antcrew::report_layer
