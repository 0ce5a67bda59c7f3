// How much of this machine others had while a study ran.
//
//   if (taken_processors(record, cell) >= much_taken) no_cause_is_drawn_from_busy_processors();
//
// Pure.
#pragma once

#include "antcrew/analysis/forward.hpp"
#include "antcrew/analysis/layer.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::analysis_layer {

// From here on nothing is concluded from how busy processors were.
inline constexpr double much_taken = 0.25;

// Processors that this cell's workers lacked, on average of the study: what a hypervisor or a quota took, and other
// programs where there were not enough for both.
double taken_processors(const Record& record, const Cell& cell);

// Processors that this study could have had, on average: all that are usable, less what others used or took.
double free_processors(const Record& record);

}  // namespace antcrew::analysis_layer
