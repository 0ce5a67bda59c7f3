// Formulas over workers and sizes, and timelines, as parts of an explanation in JSON.
#pragma once

#include "antcrew/analysis/forward.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

// "models", "crossovers", "lines", "worth_it", "weak_scaling", "ceilings"
void add_scaling(const Analysed& study, Json& json);

// "timelines": of each cell that kept one.
void add_timelines(const Analysed& study, Json& json);

}  // namespace antcrew::internal
