// An analysed study as Markdown, to be pasted into a review: the sentence, the table, the findings, how it was
// measured.
#pragma once

#include <string>

#include "antcrew/report/layer.hpp"
#include "antcrew/report/study_view.hpp"

namespace antcrew::report_layer {

// Tables with pipes, as the common renderers take them. Names stay text: what would be markup is escaped. Pure.
std::string markdown_text(const StudyView& view);

// A text as Markdown that shows it as it is, on one line.
std::string markdown_escaped(const std::string& text);

}  // namespace antcrew::report_layer
