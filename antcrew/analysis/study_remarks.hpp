// What stands beside the figures: an unoptimised build, a machine that was not idle, workers that took turns.
#pragma once

#include <vector>

#include "antcrew/analysis/finding.hpp"
#include "antcrew/analysis/forward.hpp"
#include "antcrew/analysis/layer.hpp"

namespace antcrew::analysis_layer {

// Meanings and remarks; `of` is null where they are about the study.
std::vector<Finding> study_remarks(const Analysed& study);

}  // namespace antcrew::analysis_layer
