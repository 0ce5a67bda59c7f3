// What findings promise, held to what can be: "at most" is at most, and limits agree with each other.
//
//   keep_promises(cell, ledgers, losses);
//
// Pure. A promise (Finding::gain_speedup) is no more than the workers bring at what one of them needs for the work, nor
// than the processors allow for what it computes; never less than what was measured, where something is to be gained.
// A limit (Finding::limit_speedup) is the same for all losses of a cell, no less than what was measured and than each
// promise; where it would be, there is none.
#pragma once

#include <vector>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/finding.hpp"
#include "antcrew/analysis/layer.hpp"
#include "antcrew/analysis/ledger.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

// Causes that are CPU time themselves.
bool computes(Cause cause);
// What costs CPU time beside what it is: at most all that the work takes more goes with it.
bool takes_turns(Cause cause);

// The highest speedup that so many workers bring once `removed_s` of their CPU time is gone.
double most_of_workers(const Ledger& ledger, double removed_s);

void keep_promises(const CellFigures& cell, const std::vector<Ledger>& ledgers, std::vector<Finding>& losses);

}  // namespace antcrew::internal
