// The hosts of a cell's ranks, where its workers are ranks of which a log was kept.
#pragma once

#include <string>

#include "antcrew/analysis/layer.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::analysis_layer {

// Null for other cells.
const internal::RankFacts* ranks_of(const Cell& cell) noexcept;

// That its workers may use: this machine's, or those of all hosts of its ranks.
int processors_of(const Record& record, const Cell& cell) noexcept;

// "rank 3 on hostb"; without facts, "worker 3".
std::string worker_name(const internal::RankFacts* ranks, int worker);

}  // namespace antcrew::analysis_layer
