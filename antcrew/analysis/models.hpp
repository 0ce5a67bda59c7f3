// How a variant's time changes with the number of workers, by a formula: what it would do with more of them.
//
//   for (const CurveModels& curve : models_of(study)) if (!curve.fits.empty()) use(curve.fits.front().limit_speedup);
//
// y = T_p / T_s, over the baseline's time of the same round:
//   serial fraction        y = s + (1 − s)/p             (Amdahl 1967, "Validity of the single processor approach")
//   contention, coherency  y = (1 + σ(p − 1) + κp(p − 1))/p    (Gunther 1993, "A simple capacity model")
// each also with a free scale a, for variants that take another time than the baseline with one worker already. All are
// linear in what is fitted; fitted by least squares of relative deviations, no parameter below 0. Intervals by
// bootstrap over rounds. A formula needs three worker counts more than it has parameters; only counts up to the
// processors are used, or all of them where workers mostly wait. Formulas are compared by the corrected information
// measure AICc (Hurvich and Tsai 1989); one that lies off the points by more than their noise is not told.
// Pure; any thread may call these.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/analysis/layer.hpp"
#include "antcrew/analysis/pairing.hpp"

namespace antcrew::analysis_layer {

// 95 %.
struct Bounds {
  double value = 0;
  double low = 0;
  double high = 0;
};

enum class ScalingModel { serial_fraction, serial_fraction_scaled, contention, contention_scaled };
const char* name_of(ScalingModel model) noexcept;  // "serial fraction", "serial fraction and scale", …

struct ScalingFit {
  ScalingModel model = ScalingModel::serial_fraction;
  std::map<std::string, Bounds> parameters;  // "serial_fraction", "contention", "coherency", "scale"
  double aicc = 0;                           // smaller is better
  double misfit = 0;                         // squared deviations in units of their noise, over what is to be expected
  // However many workers; none where it falls again, has no limit, or where no form that falls could be fitted beside
  // it and agrees: what lies beyond the measured counts is not known then.
  std::optional<Bounds> limit_speedup;
  std::optional<Bounds> peak_workers;  // beyond, more workers make it slower
  // At worker counts up to four times the largest measured. Beyond that one it is the same for all fits: the envelope
  // of all forms that the data allow, and of a roof that begins there, which no data exclude.
  std::map<int, Bounds> speedup;
};

// Times over the baseline's of the same round, by round, for each worker count: ascending.
using ScalingData = std::map<int, ByGeneration>;

struct ScalingFits {
  std::vector<ScalingFit> fits;  // the best first; those within 2 of it in aicc cannot be told from it
  std::string refused;           // why there is none
  std::string beyond;            // why no limit is told, where there is none; in words
  std::vector<int> workers;      // that they rest on
};

// most_workers: counts beyond are not used.
ScalingFits fit_scaling(const ScalingData& data, int most_workers);

struct CurveModels {
  const CellFigures* of = nullptr;  // the curve's cell with the most workers
  ScalingFits scaling;
};

// Of each variant's curve over workers at the headline's point.
std::vector<CurveModels> models_of(const Analysed& study);

}  // namespace antcrew::analysis_layer
