// What a study found out about its cells: conclusions with the figures they rest on. Sentences are made in the report.
//
//   for (const Finding& f : findings) use(f.id, f.share, f.figures);
//
// Plain data; findings.hpp makes them.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/figures.hpp"
#include "antcrew/analysis/layer.hpp"

namespace antcrew::analysis_layer {

struct CellFigures;

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
  std::string limit_by;                 // what sets that limit: "serial", "critical path", "lock", "stage", "piece"
  Sure sure = Sure::measured;
  std::string or_else = {};  // the id of the other cause
  std::string name = {};     // of the lock, phase, stage or place
  Figures figures = {};
};

const char* name_of(Finding::Kind kind) noexcept;
const char* name_of(Finding::Sure sure) noexcept;

}  // namespace antcrew::analysis_layer
