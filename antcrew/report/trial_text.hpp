// What is left of a trial that was kept: its command, its folder, what it printed.
#pragma once

#include <string>

#include "antcrew/record/forward.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

// Of every cell of this variant, named or with its crew, whose folder was kept; reads the folders. Throws Error
// (cli.variant) for a variant that the record has not, or of which nothing was kept.
std::string trial_text(const Record& record, const std::string& variant);

}  // namespace antcrew::report_layer
