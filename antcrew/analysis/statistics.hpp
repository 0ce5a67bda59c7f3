// Medians and their intervals, without assuming a distribution.
//
// Pure functions; any thread may call them.
#pragma once

#include <vector>

#include "antcrew/analysis/layer.hpp"

namespace antcrew::analysis_layer {

// A median with the interval it lies in. `claimed` says whether low … high is an interval at the asked level; under
// least_for_interval (thresholds.hpp) values it is only the range that was seen.
struct Estimate {
  double median = 0;
  double low = 0;
  double high = 0;
  int count = 0;
  bool claimed = false;

  // (high - low) / 2 / median; 0 when the median is 0.
  double relative_half_width() const noexcept;
  bool leaves_out(double value) const noexcept { return claimed && (value < low || value > high); }
};

// Standard deviations that a 95 % interval of a normal distribution reaches to each side.
inline constexpr double deviations_of_95 = 1.959964;

// The middle value, or the mean of the two middle values. Values may be in any order; at least one.
double median(std::vector<double> values);

// The median with interpolated order statistics as its interval (Hettmansperger and Sheather 1986, "Confidence
// intervals based on interpolated order statistics"). level: 0.95 for a 95 % interval. At least one value.
Estimate median_interval(std::vector<double> values, double level = 0.95);

}  // namespace antcrew::analysis_layer
