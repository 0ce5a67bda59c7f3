// Models, crossovers and timelines as JSON, for `antcrew explain --as json`.
#pragma once

#include "antcrew/analysis/forward.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

// Adds "models", "crossovers", "lines", "worth_it", "weak_scaling" and "ceilings"; every figure with its bounds.
void add_scaling(const Analysed& study, Json& json);

// Adds "timelines": those that were kept.
void add_timelines(const Analysed& study, Json& json);

// {"variant", "crew", "workers", "size", "dimensions"}; all null for null.
Json whose_json(const Analysed& study, const CellFigures* cell);

}  // namespace antcrew::report_layer
