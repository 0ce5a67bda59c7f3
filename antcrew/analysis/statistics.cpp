#include "antcrew/analysis/statistics.hpp"

#include <algorithm>
#include <boost/math/distributions/binomial.hpp>
#include <cassert>

#include "antcrew/analysis/thresholds.hpp"

namespace antcrew::analysis_layer {
namespace {

// Chance that the median lies between the d-th smallest and the d-th largest of n values.
double coverage(int n, int d) {
  if (d < 1) return 1;
  return 1 - 2 * boost::math::cdf(boost::math::binomial_distribution<>(n, 0.5), d - 1);
}

double median_of_sorted(const std::vector<double>& sorted) {
  const std::size_t n = sorted.size();
  return n % 2 == 1 ? sorted[n / 2] : (sorted[n / 2 - 1] + sorted[n / 2]) / 2;
}

}  // namespace

double Estimate::relative_half_width() const noexcept {
  return median == 0 ? 0 : (high - low) / 2 / median;
}

double median(std::vector<double> values) {
  assert(!values.empty());
  std::sort(values.begin(), values.end());
  return median_of_sorted(values);
}

Estimate median_interval(std::vector<double> values, double level) {
  assert(!values.empty() && level > 0 && level < 1);
  std::sort(values.begin(), values.end());
  const int n = static_cast<int>(values.size());
  Estimate estimate{median_of_sorted(values), values.front(), values.back(), n, false};
  if (n < least_for_interval || coverage(n, 1) < level) return estimate;

  int d = 1;
  while (2 * (d + 1) <= n && coverage(n, d + 1) >= level) ++d;
  const double outer = coverage(n, d);
  const double inner = 2 * (d + 1) <= n ? coverage(n, d + 1) : 0;
  const double share = (outer - level) / (outer - inner);
  const double weight = (n - d) * share / (d + (n - 2 * d) * share);
  const auto at = [&](int k) { return values[static_cast<std::size_t>(k)]; };
  const int next = std::min(d, n - 1);
  estimate.low = (1 - weight) * at(d - 1) + weight * at(next);
  estimate.high = (1 - weight) * at(n - d) + weight * at(std::max(n - d - 1, 0));
  estimate.claimed = true;
  return estimate;
}

}  // namespace antcrew::analysis_layer
