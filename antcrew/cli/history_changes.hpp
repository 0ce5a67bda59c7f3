// `antcrew list --changes`: where speedups changed for good, over the runs that a search found.
#pragma once

#include <string>

#include "antcrew/cli/layer.hpp"
#include "antcrew/store/index.hpp"

namespace antcrew::cli_layer {

// Runs of one title belong together. Of damaged and lost ones nothing is read.
std::string changes_text(const FoundRuns& found);
std::string changes_json(const FoundRuns& found);

}  // namespace antcrew::cli_layer
