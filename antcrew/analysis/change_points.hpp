// Where a figure changed for good, over runs one after the other.
//
// Pure; any thread may call these.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/analysis/layer.hpp"

namespace antcrew::analysis_layer {

// A change needs so many runs on either side of it.
inline constexpr std::size_t runs_beside_change = 3;

struct ChangePoint {
  std::size_t at = 0;  // the first value after it
  double before = 0;   // medians of the stretches that it parts
  double after = 0;
};

// Without assuming a distribution: the largest rank sum over all places (Pettitt 1979, "A non-parametric approach to
// the change-point problem"), judged by how often shuffled values reach it, then again on either side. level: how often
// values without a change are said to have one, such as 0.01. In their order.
std::vector<ChangePoint> change_points(const std::vector<double>& values, double level);

// Of a cell of the newest run.
struct CellChanges {
  const CellFigures* cell = nullptr;
  std::vector<double> speedups;    // of the runs that have an interval of it
  std::vector<std::size_t> runs;   // which ones: places among all
  std::vector<ChangePoint> found;  // `at` is a place in those two
};

// For each variant's cell of the last run, oldest run first; the level holds over all cells together.
std::vector<CellChanges> changes_over(const std::vector<const Analysed*>& runs, double level = 0.05);
CellChanges changes_of(const std::vector<const Analysed*>& runs, const CellFigures& cell, double level);

}  // namespace antcrew::analysis_layer
