#include "antcrew/analysis/internal/logged_runs.hpp"

#include <algorithm>
#include <cmath>

#include "antcrew/record/record.hpp"

namespace antcrew::internal {
namespace {

double log_variance(const Estimate& estimate) {
  const double deviation = (std::log(estimate.high) - std::log(estimate.low)) / (2 * deviations_of_95);
  return deviation * deviation;
}

}  // namespace

int Logged::runs() const {
  return static_cast<int>(std::count_if(values.begin(), values.end(), [](const auto& one) { return one.has_value(); }));
}

double Logged::mean() const {
  double sum = 0;
  for (const auto& value : values) sum += value.value_or(0);
  return sum / std::max(1, runs());
}

Logged logged(const std::vector<const CellFigures*>& runs, const Figure& figure) {
  Logged all;
  for (std::size_t run = 0; run < runs.size(); ++run) {
    const CellFigures* f = runs[run];
    const auto estimate = f == nullptr || f->verdict < Verdict::too_noisy ? std::optional<Estimate>() : figure(run, *f);
    const bool usable = estimate && estimate->claimed && estimate->low > 0;
    all.values.push_back(usable ? std::optional(std::log(estimate->median)) : std::nullopt);
    if (usable) all.within += log_variance(*estimate);
  }
  all.within /= std::max(1, all.runs());
  return all;
}

std::optional<Estimate> speedup_of(std::size_t, const CellFigures& f) {
  return f.speedup;
}

Figure time_by(const std::vector<const Analysed*>& runs, std::vector<double> YardstickFacts::*piece) {
  return [&runs, piece](std::size_t run, const CellFigures& f) -> std::optional<Estimate> {
    const std::vector<double>& times = runs[run]->record->yardstick.*piece;
    if (times.empty() || !f.time_s) return std::nullopt;
    const double unit = median(times);
    if (!(unit > 0)) return std::nullopt;
    const Estimate& t = *f.time_s;
    return Estimate{t.median / unit, t.low / unit, t.high / unit, t.count, t.claimed};
  };
}

// Not measured, it is no less than what rounds show: a cell that is noisy within a run is so from run to run. Measured,
// it holds what rounds of its runs show on average; a side with noisier ones has that much more.
Off off_by(const Logged& old, const Logged& now, const RunSpread& spread, double assumed) {
  constexpr double of_noise = 1.75;
  const auto of = [&](const Logged& side, const Logged& other) {
    const double usual = std::max(assumed * assumed, of_noise * of_noise * side.within) + side.within;
    const double variance = spread.measured() ? spread.variance + std::max(0.0, side.within - other.within) : usual;
    return variance / std::max(1, side.runs());
  };
  return {std::sqrt(of(old, now) + of(now, old)), spread.freedom};
}

}  // namespace antcrew::internal
