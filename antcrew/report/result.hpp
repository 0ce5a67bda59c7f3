// A study's result on one screen: the answer, the table, where the time went, how far to trust it, what to know.
#pragma once

#include <string>

#include "antcrew/report/layer.hpp"
#include "antcrew/report/study_view.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {

// The largest size whole, of others the best cell; some twelve lines besides. From 80 columns on no line is wider than
// the look, or than 80 where that has no limit. table_text() has everything.
std::string result_text(const StudyView& view, Look look);

// The beginning of a text that fits one line; cut between words, where it ends in "…".
std::string one_line(const std::string& text, std::size_t width);

}  // namespace antcrew::report_layer
