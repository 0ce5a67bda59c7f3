// How much runs of the same program differ from each other: the spread of a cell's figure from run to run.
//
// Cells of one point share the baseline of a run, so they go up and down together: that part has as many degrees of
// freedom as there are runs, however many cells there are. A cell that spreads beyond doubt more than the others has
// its own. Pure.
#pragma once

#include <cstddef>
#include <optional>
#include <vector>

#include "antcrew/analysis/layer.hpp"

namespace antcrew::internal {

// One cell: the logarithm of its figure in each run of either side; none where a run has none.
struct CellRuns {
  std::vector<std::optional<double>> before;
  std::vector<std::optional<double>> after;
  std::size_t shares = 0;  // cells of the same number share a baseline
};

struct RunSpread {
  double variance = 0;  // of one run
  double freedom = 0;   // degrees; 0 = not measured

  bool measured() const noexcept { return freedom > 0; }
};

// For each cell. Not measured where all runs together leave fewer than four degrees of freedom to a cell.
std::vector<RunSpread> spreads_of(const std::vector<CellRuns>& cells);

// How many standard deviations hold a share of `level`, both sides together: Student's, or of a normal distribution for
// freedom = 0.
double quantile_of(double level, double freedom);

}  // namespace antcrew::internal
