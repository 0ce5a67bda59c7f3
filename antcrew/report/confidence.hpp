// How far to trust a study, in one line.
#pragma once

#include <string>

#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

struct StudyView;

// "11 to 17 rounds in fresh processes, answers compared, machine idle."
std::string confidence_text(const StudyView& view);

// The same for whoever was not there: the machine, intervals, how noisy it was, the build, the date.
std::string provenance_text(const StudyView& view);

// The same in short, below a figure.
std::string figure_basis(const StudyView& view);

}  // namespace antcrew::report_layer
