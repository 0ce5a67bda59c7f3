// When a run may stop, and how much wider its intervals are for having looked.
//
// Stopping as soon as an interval looks narrow picks out the lucky, too narrow ones. So a run looks only at the end of
// a few stages, and what looked narrow enough at one of them is confirmed by the fresh rounds of the next: only then
// is a cell finished. Together with the level below, intervals cover 94 to 97 % at the end of such a run, for a normal,
// a skewed and a two-humped distribution and any asked width; tests/analysis/coverage_test.cpp repeats the simulation.
#pragma once

#include <array>

#include "antcrew/analysis/layer.hpp"
#include "antcrew/analysis/statistics.hpp"

namespace antcrew::analysis_layer {

inline constexpr std::array<int, 6> stage_ends = {7, 11, 17, 26, 40, 60};

// The level at which intervals of a staged run are computed, so that they hold the 95 % that is said.
inline constexpr double staged_level = 0.964;

constexpr bool is_stage_end(int rounds) noexcept {
  for (const int end : stage_ends) {
    if (rounds == end) return true;
  }
  return false;
}

// Follows one cell through the stages.
class StageWatch {
 public:
  explicit StageWatch(double width) : width_(width) {}

  // Called at a stage's end with the interval so far; true when the cell needs no more rounds.
  bool finished(const Estimate& estimate) noexcept {
    const bool confirmed = narrow_;
    narrow_ = estimate.claimed && estimate.relative_half_width() <= width_;
    return confirmed;
  }

 private:
  double width_;
  bool narrow_ = false;
};

}  // namespace antcrew::analysis_layer
