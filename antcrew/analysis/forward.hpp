// Names of what an analysis gives, for headers that only pass it on: analysed.hpp is read by few, and so may change.
#pragma once

#include "antcrew/analysis/layer.hpp"
#include "antcrew/record/forward.hpp"

namespace antcrew::analysis_layer {

struct Analysed;
struct CellFigures;
struct Comparison;
struct Conclusion;
struct Estimate;
struct Finding;
struct Ledger;

}  // namespace antcrew::analysis_layer
