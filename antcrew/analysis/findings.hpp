// The findings of a study: of a cell, of the cells that are explained by default, of the study as a whole.
//
//   for (const Finding& finding : findings_of(study)) if (finding.kind == Finding::Kind::loss) use(finding.share);
//
// Pure; any thread may call these.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/finding.hpp"
#include "antcrew/analysis/forward.hpp"
#include "antcrew/analysis/layer.hpp"
#include "antcrew/analysis/ledger.hpp"

namespace antcrew::analysis_layer {

// Of one cell, in order: all kinds. Without ledgers, what the timed figures alone can tell.
std::vector<Finding> findings_of(const Analysed& study, const CellFigures& cell);

// All losses of a cell, also those too small to be told one by one: what sums and comparisons rest on.
std::vector<Finding> losses_of(const Analysed& study, const CellFigures& cell);
// Whether a loss is large enough to stand among the findings: 5 % of its workers' time.
bool is_told(const Finding& loss) noexcept;

// The cells that are explained by default: the headline's first, then each variant at its largest worker count, at the
// headline's point.
std::vector<const CellFigures*> explained_cells(const Analysed& study);

// Of the study as a whole: the build, the machine, the run.
std::vector<Finding> findings_of_study(const Analysed& study);

// Of all explained cells, then of the study as a whole; seconds never rank across cells.
std::vector<Finding> findings_of(const Analysed& study);

// Why a cell's ledger is not told; empty when it is.
std::string withheld_because(const Analysed& study, const CellFigures& cell);

}  // namespace antcrew::analysis_layer
