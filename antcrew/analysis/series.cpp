#include "antcrew/analysis/series.hpp"

#include <algorithm>
#include <boost/math/distributions/students_t.hpp>
#include <cassert>
#include <cmath>
#include <numbers>
#include <numeric>

#include "antcrew/analysis/thresholds.hpp"

namespace antcrew::analysis_layer {
namespace {

std::vector<double> ranked(const std::vector<double>& values) {
  std::vector<std::size_t> order(values.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return values[a] < values[b]; });
  std::vector<double> ranks(values.size());
  for (std::size_t first = 0; first < order.size();) {
    std::size_t last = first;
    while (last + 1 < order.size() && values[order[last + 1]] == values[order[first]]) ++last;
    for (std::size_t k = first; k <= last; ++k) ranks[order[k]] = static_cast<double>(first + last) / 2;
    first = last + 1;
  }
  return ranks;
}

double quantile(double level, double freedom) {
  return boost::math::quantile(boost::math::students_t(freedom), 1 - (1 - level) / 2);
}

double mean_of(const std::vector<double>& values) {
  return std::accumulate(values.begin(), values.end(), 0.0) / static_cast<double>(values.size());
}

double squares_about(const std::vector<double>& values, double middle) {
  double sum = 0;
  for (const double value : values) sum += (value - middle) * (value - middle);
  return sum;
}

struct Mean {
  double mean = 0;
  double error = 0;  // standard
  double freedom = 0;
};

Mean plain_mean(const std::vector<double>& values) {
  const auto n = static_cast<double>(values.size());
  const double mean = mean_of(values);
  return {mean, std::sqrt(squares_about(values, mean) / (n - 1) / n), n - 1};
}

Mean trimmed_mean(std::vector<double> values) {
  std::sort(values.begin(), values.end());
  const std::size_t n = values.size();
  const std::size_t cut = n / 5;
  const auto left = static_cast<double>(n - 2 * cut);
  double mean = 0;
  for (std::size_t k = cut; k < n - cut; ++k) mean += values[k] / left;
  for (std::size_t k = 0; k < cut; ++k) {
    values[k] = values[cut];
    values[n - 1 - k] = values[n - 1 - cut];
  }
  return {mean, std::sqrt(squares_about(values, mean_of(values)) / (left * (left - 1))), left - 1};
}

}  // namespace

double neighbour_correlation(const std::vector<std::vector<double>>& series) {
  constexpr std::size_t shortest = 5;
  constexpr double most = 0.9;
  double sum = 0;
  double weight = 0;
  std::size_t count = 0;
  for (const std::vector<double>& values : series) {
    if (values.size() < shortest) continue;
    const std::vector<double> ranks = ranked(values);
    const double middle = mean_of(ranks);
    const double all = squares_about(ranks, middle);
    if (all <= 0) continue;
    double neighbours = 0;
    for (std::size_t k = 1; k < ranks.size(); ++k) neighbours += (ranks[k - 1] - middle) * (ranks[k] - middle);
    // Of normal values, from the correlation of their ranks.
    const double r = 2 * std::sin(std::numbers::pi * neighbours / all / 6);
    const auto n = static_cast<double>(values.size());
    sum += n * r + 1;
    weight += n - 4;
    count += values.size();
  }
  return count < least_for_correlation || weight <= 0 ? 0 : std::clamp(sum / weight, -most, most);
}

double widening(double correlation, int together) {
  if (correlation <= 0) return 1;
  double within = 1;  // variance of the mean of neighbours, times their number
  for (int k = 1; k < together; ++k) within += 2 * (1 - static_cast<double>(k) / together) * std::pow(correlation, k);
  return std::sqrt(std::max(1.0, (1 + correlation) / (1 - correlation) / within));
}

Estimate widened(Estimate estimate, double times) noexcept {
  if (!estimate.claimed) return estimate;
  estimate.low = estimate.median * std::pow(estimate.low / estimate.median, times);
  estimate.high = estimate.median * std::pow(estimate.high / estimate.median, times);
  return estimate;
}

double trend(const std::vector<double>& values) {
  const std::size_t n = values.size();
  if (n < 4) return 0;
  long rises = 0;
  for (std::size_t a = 0; a < n; ++a) {
    for (std::size_t b = a + 1; b < n; ++b) rises += values[b] > values[a] ? 1 : values[b] < values[a] ? -1 : 0;
  }
  const auto count = static_cast<double>(n);
  return static_cast<double>(rises) / std::sqrt(count * (count - 1) * (2 * count + 5) / 18);
}

double interval_factor(int blocks, int rounds) {
  return quantile(0.95, std::max(1, blocks - 1)) / std::sqrt(static_cast<double>(std::max(1, rounds)));
}

Estimate mean_ratio(const std::vector<double>& ratios, double level, bool trimmed) {
  assert(!ratios.empty() && level > 0 && level < 1);
  std::vector<double> logs;
  for (const double ratio : ratios) logs.push_back(std::log(ratio));
  const auto [low, high] = std::minmax_element(ratios.begin(), ratios.end());
  const int count = static_cast<int>(ratios.size());
  if (count < least_for_interval) return {std::exp(mean_of(logs)), *low, *high, count, false};
  const Mean mean = trimmed ? trimmed_mean(std::move(logs)) : plain_mean(logs);
  const double half = mean.error * quantile(level, mean.freedom);
  return {std::exp(mean.mean), std::exp(mean.mean - half), std::exp(mean.mean + half), count, true};
}

}  // namespace antcrew::analysis_layer
