// Models, crossovers and timelines as JSON, for `antcrew explain --as json`.
#pragma once

#include <nlohmann/json_fwd.hpp>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/layers.hpp"

namespace antcrew::report_layer {

// Adds "models", "crossovers", "lines", "worth_it", "weak_scaling" and "ceilings"; every figure with its bounds.
void add_scaling(const Analysed& study, nlohmann::ordered_json& json);

// Adds "timelines": those that were kept.
void add_timelines(const Analysed& study, nlohmann::ordered_json& json);

// {"variant", "crew", "workers", "size", "dimensions"}; all null for null.
nlohmann::ordered_json whose_json(const Analysed& study, const CellFigures* cell);

}  // namespace antcrew::report_layer
