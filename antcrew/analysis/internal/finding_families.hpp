// Findings by family, each adding its own.
#pragma once

#include <vector>

#include "antcrew/analysis/findings.hpp"
#include "antcrew/analysis/layer.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

void add_meanings(const Analysed& study, const CellFigures& cell, std::vector<Finding>& findings);
// Told or not. `whole`: the ledgers are told; otherwise only what counts can carry.
std::vector<Finding> all_losses(const Analysed& study, const CellFigures& cell, const std::vector<Ledger>& ledgers,
                                bool whole);
// Of a crew that the body never calls.
void add_unused_crew(const CellFigures& cell, const std::vector<Ledger>& ledgers, std::vector<Finding>& findings);
void add_remarks(const Analysed& study, const CellFigures& cell, std::vector<Finding>& findings);

}  // namespace antcrew::internal
