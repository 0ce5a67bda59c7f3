// What a study found out about its cells: conclusions with the figures they rest on. Sentences are made in the report.
//
//   for (const Finding& finding : findings_of(study)) if (finding.kind == Finding::Kind::loss) use(finding.share);
//
// Pure; any thread may call these.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/ledger.hpp"
#include "antcrew/base/layers.hpp"

namespace antcrew::analysis_layer {

struct Finding {
  // In the order in which they are told: what the figures mean at all, where worker-seconds went, what is worth
  // knowing.
  enum class Kind { meaning, loss, remark };
  // measured: in all metered calls alike. likely: in most, or by way of a model. open: the data cannot tell it from
  // what `or_else` names.
  enum class Sure { measured, likely, open };

  std::string id;
  Kind kind = Kind::remark;
  const CellFigures* of = nullptr;      // null: of the study
  double loss_s = 0;                    // worker-seconds of a call
  double share = 0;                     // of lanes × wall
  std::optional<double> gain_speedup;   // over the baseline, at most, if this alone were removed
  std::optional<double> limit_speedup;  // at any number of workers, with what else this call did in turn
  Sure sure = Sure::measured;
  std::string or_else = {};  // the id of the other cause
  std::string name = {};     // of the lock, phase, stage or place
  std::map<std::string, double> figures = {};
};

const char* name_of(Finding::Kind kind) noexcept;
const char* name_of(Finding::Sure sure) noexcept;

// Of one cell, in order: all kinds. Without ledgers, what the timed figures alone can tell.
std::vector<Finding> findings_of(const Analysed& study, const CellFigures& cell);

// The cells that are explained by default: the headline's first, then each variant at its largest worker count, at the
// headline's point.
std::vector<const CellFigures*> explained_cells(const Analysed& study);

// Of all explained cells, then of the study as a whole; seconds never rank across cells.
std::vector<Finding> findings_of(const Analysed& study);

// Why a cell's ledger is not told; empty when it is.
std::string withheld_because(const Analysed& study, const CellFigures& cell);

}  // namespace antcrew::analysis_layer
