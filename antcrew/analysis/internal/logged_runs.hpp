// The figures of one cell in several runs, as logarithms, and what their difference may be off by.
#pragma once

#include <functional>
#include <optional>
#include <vector>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/internal/between_runs.hpp"
#include "antcrew/analysis/layer.hpp"

namespace antcrew::internal {

struct Logged {
  std::vector<std::optional<double>> values;  // run by run
  double within = 0;                          // variance of a run by its own rounds, the mean

  int runs() const;
  double mean() const;
};

using Figure = std::function<std::optional<Estimate>(std::size_t run, const CellFigures&)>;

// Runs of one cell; null where a run does not have it. What is faulty, or without an interval, has no value.
Logged logged(const std::vector<const CellFigures*>& runs, const Figure& figure);

std::optional<Estimate> speedup_of(std::size_t run, const CellFigures& cell);
// A cell's time in units of one of the pieces of its run's yardstick. `runs` must outlive it.
Figure time_by(const std::vector<const Analysed*>& runs, std::vector<double> YardstickFacts::*piece);

// What a difference of two sides may be off by.
struct Off {
  double deviation = 0;  // standard
  double freedom = 0;    // degrees; 0 = the spread is assumed

  // That holds a share of `level`.
  double half(double level) const { return quantile_of(level, freedom) * deviation; }
};
Off off_by(const Logged& old, const Logged& now, const RunSpread& spread, double assumed);

}  // namespace antcrew::internal
