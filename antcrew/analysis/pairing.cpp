#include "antcrew/analysis/pairing.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/record/record.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

namespace antcrew::analysis_layer {
namespace {

// Values of single visits, gathered by generation.
class Gathered {
 public:
  void add(int generation, double value) { values_[generation].push_back(value); }
  ByGeneration medians() {
    ByGeneration medians;
    for (auto& [generation, values] : values_) medians[generation] = median(std::move(values));
    return medians;
  }

 private:
  std::map<int, std::vector<double>> values_;
};

// Trials stand in the order in which they were made, so those of a round stand together.
using Trials = std::vector<const Trial*>;
Trials trials_of(const Cell& cell, int confirming) {
  Trials trials;
  for (const Trial& trial : cell.trials) {
    if (trial.confirming == confirming) trials.push_back(&trial);
  }
  return trials;
}

// Older records do not tell when a trial began: then the first of the round is as good as any.
const Trial* nearest_in_round(const Trials& trials, const Trial& to) {
  const auto earlier = [](const Trial* trial, int round) { return trial->round < round; };
  const Trial* nearest = nullptr;
  double distance = std::numeric_limits<double>::infinity();
  for (auto at = std::lower_bound(trials.begin(), trials.end(), to.round, earlier);
       at != trials.end() && (*at)->round == to.round; ++at) {
    const double away = (*at)->start_s && to.start_s ? std::fabs(*(*at)->start_s - *to.start_s) : 0;
    if (nearest != nullptr && away >= distance) continue;
    nearest = *at;
    distance = away;
  }
  return nearest;
}

}  // namespace

double median_time(const Trial& trial) {
  return trial.wall_s;
}

double mean_time(const Trial& trial) {
  if (trial.times_s.empty()) return trial.wall_s;
  double sum = 0;
  for (const double time : trial.times_s) sum += time;
  return sum / static_cast<double>(trial.times_s.size());
}

ByGeneration by_generation(const Cell& cell, int confirming, double (*value)(const Trial&)) {
  Gathered gathered;
  for (const Trial* trial : trials_of(cell, confirming)) gathered.add(trial->generation, value(*trial));
  return gathered.medians();
}

ByGeneration times_of(const Cell& cell, int confirming) {
  return by_generation(cell, confirming, median_time);
}

ByGeneration pairs_of(const Cell& a, const Cell& b, int confirming,
                      const std::function<double(const Trial&, const Trial&)>& value) {
  const Trials of_a = trials_of(a, confirming);
  Gathered gathered;
  for (const Trial* trial : trials_of(b, confirming)) {
    if (const Trial* other = nearest_in_round(of_a, *trial)) gathered.add(trial->generation, value(*other, *trial));
  }
  return gathered.medians();
}

ByGeneration ratios_of(const Cell& a, const Cell& b, int confirming, double (*value)(const Trial&)) {
  const Trials of_a = trials_of(a, confirming);
  Gathered gathered;
  for (const Trial* trial : trials_of(b, confirming)) {
    const Trial* other = nearest_in_round(of_a, *trial);
    if (other != nullptr && value(*trial) > 0) gathered.add(trial->generation, value(*other) / value(*trial));
  }
  return gathered.medians();
}

ByGeneration ratios_of(const Cell& a, const Cell& b, int confirming) {
  return ratios_of(a, b, confirming, median_time);
}

std::optional<Estimate> estimate_of(const ByGeneration& values, double level) {
  if (values.empty()) return std::nullopt;
  std::vector<double> plain;
  for (const auto& [generation, value] : values) plain.push_back(value);
  return median_interval(std::move(plain), level);
}

}  // namespace antcrew::analysis_layer
