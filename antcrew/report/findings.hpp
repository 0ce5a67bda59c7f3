// Findings in sentences: what was found, how much it is, what to try; and a ledger as a small table.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/findings.hpp"
#include "antcrew/report/layer.hpp"
#include "antcrew/report/study_view.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {

// One sentence without a full stop.
std::string claim_of(const Finding& finding);
// What to change or measure next; empty when there is nothing to do.
std::string advice_for(const Finding& finding);
// "at most speedup 3.2 if this alone were gone; no worker count passes 4.5; measured"
std::string worth_of(const Finding& finding);

// Where the worker-seconds of a cell's middle metered call went, the largest part first; empty without a ledger.
std::string ledger_text(const Analysed& study, const CellFigures& cell, const Look& look);

// The same of one stretch of a program, as Watch::ledger() gives it: a line a state, for a log.
std::string ledger_text(const LaneSums& sums);

// "89 % running, 10 % idle at the join" of its middle metered call; empty without a ledger.
std::string shares_text(const Analysed& study, const CellFigures& cell);

// All of `antcrew explain`.
std::string explanation(const StudyView& view, const Look& look, bool timelines = false);
// The first few findings, to stand under a table.
std::string first_findings(const StudyView& view, std::size_t most);

// Whether the data could not tell anything about what was lost.
bool cannot_explain(const StudyView& view);

}  // namespace antcrew::report_layer
