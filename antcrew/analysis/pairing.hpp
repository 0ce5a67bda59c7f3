// From trials to the values that are independent of each other: one for each generation of cell processes.
//
// Within a round a cell is compared with the visit of the other that was nearest in time; several rounds of one
// generation share its luck, so their median counts once. Pure; any thread may call these.
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <vector>

#include "antcrew/analysis/layer.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/record/forward.hpp"

namespace antcrew::analysis_layer {

// Which of a cell's trials are meant.
inline constexpr int exploring = 0;  // or the number of a confirmation, from 1 on

using ByGeneration = std::map<int, double>;

ByGeneration by_generation(const Cell& cell, int confirming, double (*value)(const Trial&));
ByGeneration times_of(const Cell& cell, int confirming);

// a's time / b's, over the generations in which both were tried in the same round.
ByGeneration ratios_of(const Cell& a, const Cell& b, int confirming, double (*value)(const Trial&));
ByGeneration ratios_of(const Cell& a, const Cell& b, int confirming);

// value(a's trial, b's trial) of each pair, the same way.
ByGeneration pairs_of(const Cell& a, const Cell& b, int confirming,
                      const std::function<double(const Trial&, const Trial&)>& value);

// The median of the values with its interval; none without a value.
std::optional<Estimate> estimate_of(const ByGeneration& values, double level);

// A trial's time of a call: the median of its batches, and their mean.
double median_time(const Trial& trial);
double mean_time(const Trial& trial);

}  // namespace antcrew::analysis_layer
