// An analysed study as a table for a terminal.
#pragma once

#include <cstddef>
#include <string>

#include "antcrew/report/layer.hpp"
#include "antcrew/report/study_view.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {

// The sentence, the table grouped by point, the evidence of every cell that does not hold, and the warnings.
std::string table_text(const StudyView& view, const Look& look);

}  // namespace antcrew::report_layer
