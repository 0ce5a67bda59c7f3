// What a rewrite takes beside what it gains: lines of source against the baseline's, and its speedup.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/report/layer.hpp"
#include "antcrew/report/section.hpp"

namespace antcrew::report_layer {

struct CodeSize {
  const record_layer::SourceFacts* source = nullptr;
  const CellFigures* cell = nullptr;  // the fastest of the variant at the headline's point; null: the baseline, or none
};

// In the record's order; empty where nobody named a source.
std::vector<CodeSize> code_sizes_of(const Analysed& study);

// A line a variant; empty where there are none.
Section code_size_section(const Analysed& study);

}  // namespace antcrew::report_layer
