// What stands below a table: evidence, ladders, phases, crowd control, warnings.
#pragma once

#include <string>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

// Each part only when there is something to say. Lines are as long as they come.
std::string notes_text(const Analysed& study);

// What there was no time for, without a full stop: "points from size 100,000 on".
std::string left_out_text(const Record& record, const LeftOut& left);

}  // namespace antcrew::report_layer
