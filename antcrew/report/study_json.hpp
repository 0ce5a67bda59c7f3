// A study as JSON, for other programs: what was measured and derived, or where the time went.
//
// Documents are described in docs/results.md and docs/explain.md. Times are seconds, memory is bytes, shares are
// fractions; null is what does not exist. Pure.
#pragma once

#include <string>

#include "antcrew/report/layer.hpp"
#include "antcrew/report/study_view.hpp"

namespace antcrew::report_layer {

// Of all cells, with the conclusion and its figures.
std::string study_json(const StudyView& view);

// Findings, ledgers and projections; timelines where they are asked for.
std::string explanation_json(const StudyView& view, bool timelines = false);

}  // namespace antcrew::report_layer
