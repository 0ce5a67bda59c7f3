// Values in the order in which they were measured: how much neighbours resemble each other, and whether there is a
// trend.
//
// Pure functions; any thread may call them.
#pragma once

#include <vector>

#include "antcrew/analysis/layer.hpp"
#include "antcrew/analysis/statistics.hpp"

namespace antcrew::analysis_layer {

// How much a value resembles the one before it: the rank correlation of neighbours, over several series together, freed
// of the bias that it has in short ones (Kendall 1954, "Note on bias in the estimation of autocorrelation"). 0 where
// they are too short to tell: together fewer than least_for_correlation values.
inline constexpr std::size_t least_for_correlation = 11;
double neighbour_correlation(const std::vector<std::vector<double>>& series);

// How much wider an interval is whose n values resemble each other so: √((1 + r) / (1 − r)), 1 for r <= 0; of means of
// `together` neighbours, less (Zięba 2010, "Effective number of observations and unbiased estimators of variance for
// autocorrelated data").
double widening(double correlation, int together = 1);

// The interval about its middle, so many times as wide.
Estimate widened(Estimate estimate, double times) noexcept;

// Standard deviations that the number of rises less that of falls is off its mean if there is no trend (Mann 1945,
// "Nonparametric tests against trend"). 0 for fewer than four values.
double trend(const std::vector<double>& values);

// The mean of logarithms as a ratio, with Student's interval; `trimmed`: of the middle 60 % of them (Yuen 1974, "The
// two-sample trimmed t for unequal population variances"). Claimed from least_for_interval (thresholds.hpp) values on.
Estimate mean_ratio(const std::vector<double>& ratios, double level, bool trimmed);

// How wide that is for so many blocks with so many rounds in all, if blocks do not matter: up to a factor.
double interval_factor(int blocks, int rounds);

}  // namespace antcrew::analysis_layer
