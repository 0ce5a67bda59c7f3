// What a rewrite takes beside what it gains: lines of source against the baseline's, and its speedup.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

struct CodeSize {
  const record_layer::SourceFacts* source = nullptr;
  const CellFigures* cell = nullptr;  // the fastest of the variant at the headline's point; null: the baseline, or none
};

// In the record's order; empty where nobody named a source.
std::vector<CodeSize> code_sizes_of(const Analysed& study);

// "Lines of source, and what they gain:" and a line a variant; empty where there are none.
std::string code_size_text(const Analysed& study);

}  // namespace antcrew::report_layer
