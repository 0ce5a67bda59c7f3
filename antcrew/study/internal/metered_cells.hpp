// Which cells of a block are called with a log of what their workers do.
#pragma once

#include <cstddef>
#include <vector>

#include "antcrew/study/internal/block_run.hpp"

namespace antcrew::internal {

// Places in `block`: the baseline first, then those that are sound so far and have no ledger yet, the fastest first.
std::vector<std::size_t> cells_to_meter(const Record& record, const std::vector<Running>& block, Metering which);

}  // namespace antcrew::internal
