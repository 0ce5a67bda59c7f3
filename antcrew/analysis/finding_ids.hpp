// The ids that findings have: one list, by which words, documents, JSON and guards go.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/layer.hpp"

namespace antcrew::analysis_layer {

// Alphabetically.
const std::vector<std::string>& finding_ids();
bool is_finding_id(const std::string& id);

}  // namespace antcrew::analysis_layer
