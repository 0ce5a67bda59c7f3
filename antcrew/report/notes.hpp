// What stands below a table: evidence, ladders, phases, crowd control, warnings.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/report/layer.hpp"
#include "antcrew/report/section.hpp"
#include "antcrew/report/study_view.hpp"

namespace antcrew::report_layer {

// Those with nothing to say are empty. Lines are as long as they come.
std::vector<Section> notes_of(const StudyView& view);

// What there was no time for, without a full stop: "points from size 100,000 on".
std::string left_out_text(const Record& record, const LeftOut& left);

}  // namespace antcrew::report_layer
