#include "antcrew/analysis/models.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <random>
#include <set>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/pairing.hpp"
#include "antcrew/analysis/thresholds.hpp"

namespace antcrew::analysis_layer {
namespace {

constexpr std::size_t most_terms = 3;
using Terms = std::array<double, most_terms>;

struct Shape {
  ScalingModel model;
  std::size_t terms;
  bool scaled;
};
constexpr Shape shapes[] = {{ScalingModel::serial_fraction, 1, false},
                            {ScalingModel::serial_fraction_scaled, 2, true},
                            {ScalingModel::contention, 2, false},
                            {ScalingModel::contention_scaled, 3, true}};

bool has_coherency(ScalingModel model) {
  return model == ScalingModel::contention || model == ScalingModel::contention_scaled;
}

// What each fitted number is multiplied by at p workers; the part that is not fitted apart.
Terms terms_at(const Shape& shape, double p) {
  if (shape.model == ScalingModel::serial_fraction) return {1 - 1 / p, 0, 0};
  if (shape.model == ScalingModel::serial_fraction_scaled) return {1, 1 / p, 0};
  if (shape.model == ScalingModel::contention) return {(p - 1) / p, p - 1, 0};
  return {1 / p, (p - 1) / p, p - 1};
}

double fixed_at(const Shape& shape, double p) {
  return shape.scaled ? 0 : 1 / p;
}

struct Observed {
  double p = 1;
  double y = 1;
  double noise = 0.01;  // relative
};

// Solves the normal equations of the terms in `used`; false when they do not determine them.
bool solve(const Shape& shape, const std::vector<Observed>& points, unsigned used, Terms& found) {
  double matrix[most_terms][most_terms + 1] = {};
  std::vector<std::size_t> which;
  for (std::size_t k = 0; k < shape.terms; ++k) {
    if ((used >> k & 1u) != 0) which.push_back(k);
  }
  for (const Observed& point : points) {
    const Terms terms = terms_at(shape, point.p);
    const double weight = 1 / (point.y * point.noise * point.y * point.noise);
    for (std::size_t i = 0; i < which.size(); ++i) {
      for (std::size_t j = 0; j < which.size(); ++j) matrix[i][j] += weight * terms[which[i]] * terms[which[j]];
      matrix[i][which.size()] += weight * terms[which[i]] * (point.y - fixed_at(shape, point.p));
    }
  }
  const std::size_t n = which.size();
  for (std::size_t i = 0; i < n; ++i) {
    std::size_t pivot = i;
    for (std::size_t r = i + 1; r < n; ++r) {
      if (std::fabs(matrix[r][i]) > std::fabs(matrix[pivot][i])) pivot = r;
    }
    std::swap(matrix[i], matrix[pivot]);
    if (!(std::fabs(matrix[i][i]) > 1e-300)) return false;
    for (std::size_t r = 0; r < n; ++r) {
      if (r == i) continue;
      const double factor = matrix[r][i] / matrix[i][i];
      for (std::size_t c = i; c <= n; ++c) matrix[r][c] -= factor * matrix[i][c];
    }
  }
  found = {};
  for (std::size_t i = 0; i < n; ++i) found[which[i]] = matrix[i][n] / matrix[i][i];
  return true;
}

double model_at(const Shape& shape, const Terms& found, double p) {
  const Terms terms = terms_at(shape, p);
  double y = fixed_at(shape, p);
  for (std::size_t k = 0; k < shape.terms; ++k) y += found[k] * terms[k];
  return y;
}

double deviation(const Shape& shape, const std::vector<Observed>& points, const Terms& found) {
  double sum = 0;
  for (const Observed& point : points) {
    const double off = (point.y - model_at(shape, found, point.p)) / (point.y * point.noise);
    sum += off * off;
  }
  return sum;
}

// The best of all choices of terms that leaves none below 0.
Terms fitted(const Shape& shape, const std::vector<Observed>& points) {
  Terms best{};
  double least = std::numeric_limits<double>::infinity();
  for (unsigned used = 0; used < 1u << shape.terms; ++used) {
    Terms found{};
    if (used != 0 && !solve(shape, points, used, found)) continue;
    if (std::any_of(found.begin(), found.end(), [](double value) { return value < 0; })) continue;
    const double off = deviation(shape, points, found);
    if (off >= least) continue;
    least = off;
    best = found;
  }
  return best;
}

// What is told of a fit, from what was fitted.
std::map<std::string, double> parameters_of(const Shape& shape, const Terms& f) {
  switch (shape.model) {
    case ScalingModel::serial_fraction:
      return {{"serial_fraction", std::min(1.0, f[0])}};
    case ScalingModel::serial_fraction_scaled:
      return {{"scale", f[0] + f[1]}, {"serial_fraction", f[0] + f[1] > 0 ? f[0] / (f[0] + f[1]) : 0}};
    case ScalingModel::contention:
      return {{"contention", f[0]}, {"coherency", f[1]}};
    case ScalingModel::contention_scaled:
      break;
  }
  const double scale = std::max(f[0], 1e-300);
  return {{"scale", f[0]}, {"contention", f[1] / scale}, {"coherency", f[2] / scale}};
}

double limit_of(const Shape& shape, const Terms& f) {
  constexpr double none = std::numeric_limits<double>::infinity();
  const double lasting = shape.model == ScalingModel::contention_scaled ? f[1] : f[0];
  return lasting > 0 ? 1 / lasting : none;
}

double peak_of(const std::map<std::string, double>& parameters) {
  const double coherency = parameters.at("coherency");
  if (!(coherency > 0)) return std::numeric_limits<double>::infinity();
  return std::sqrt(std::max(0.0, 1 - parameters.at("contention")) / coherency);
}

// Student's, two-sided 95 %.
double t_of(double freedom) {
  return 1.96 + 2.37 / freedom + 2.82 / (freedom * freedom);
}

// The 99 % point of chi-square (Wilson and Hilferty 1931).
double chi_square_limit(double freedom) {
  const double a = 2 / (9 * freedom);
  return freedom * std::pow(1 - a + 2.326 * std::sqrt(a), 3);
}

double deviation_of(const std::vector<double>& values) {
  double mean = 0;
  for (const double value : values) mean += value;
  mean /= static_cast<double>(values.size());
  double sum = 0;
  for (const double value : values) sum += (value - mean) * (value - mean);
  return std::sqrt(sum / static_cast<double>(values.size() - 1));
}

// Of what has a limit in some resamples and none in others: by rank.
std::optional<Bounds> ranked(double value, std::vector<double> values) {
  if (!std::isfinite(value)) return std::nullopt;
  std::sort(values.begin(), values.end());
  const auto at = [&](double share) { return values[static_cast<std::size_t>(share * double(values.size() - 1))]; };
  return Bounds{value, std::min(value, at(0.025)), std::max(value, at(0.975))};
}

// Medians of each worker count, once as measured and then of rounds drawn again.
class Resamples {
 public:
  Resamples(const ScalingData& data, const std::vector<int>& workers) : data_(data), workers_(workers) {
    std::set<int> rounds;
    for (const int p : workers) {
      for (const auto& [round, value] : data.at(p)) rounds.insert(round);
    }
    rounds_.assign(rounds.begin(), rounds.end());
  }

  std::vector<Observed> measured() const {
    std::vector<Observed> points;
    for (const int p : workers_) {
      std::vector<double> values;
      for (const auto& [round, value] : data_.at(p)) values.push_back(value);
      points.push_back({static_cast<double>(p), median(std::move(values))});
    }
    return points;
  }

  std::vector<std::vector<Observed>> drawn(int times) const {
    std::mt19937_64 random(0xa17);
    std::vector<std::vector<Observed>> all;
    for (int k = 0; k < times; ++k) {
      std::vector<int> rounds;
      for (std::size_t i = 0; i < rounds_.size(); ++i) rounds.push_back(rounds_[random() % rounds_.size()]);
      all.push_back(once(rounds));
    }
    return all;
  }

  double rounds() const { return static_cast<double>(rounds_.size()); }

 private:
  std::vector<Observed> once(const std::vector<int>& rounds) const {
    std::vector<Observed> points;
    for (const int p : workers_) {
      const ByGeneration& of = data_.at(p);
      std::vector<double> values;
      for (const int round : rounds) {
        if (const auto found = of.find(round); found != of.end()) values.push_back(found->second);
      }
      if (values.empty()) values.push_back(of.begin()->second);
      points.push_back({static_cast<double>(p), median(std::move(values))});
    }
    return points;
  }

  const ScalingData& data_;
  const std::vector<int>& workers_;
  std::vector<int> rounds_;
};

class Fitting {
 public:
  Fitting(const Resamples& resamples, int largest)
      : points_(resamples.measured()), drawn_(resamples.drawn(draws)), largest_(largest) {
    constexpr double least_noise = 0.01;  // no formula is truer
    for (std::size_t i = 0; i < points_.size(); ++i) {
      std::vector<double> logs;
      for (const auto& draw : drawn_) logs.push_back(std::log(draw[i].y));
      points_[i].noise = std::max(least_noise, deviation_of(logs));
      for (auto& draw : drawn_) draw[i].noise = points_[i].noise;
    }
    const double n = resamples.rounds();
    widening_ = t_of(n - 1) * std::sqrt(n / (n - 1));
  }

  ScalingFit of(const Shape& shape) const {
    ScalingFit fit;
    fit.model = shape.model;
    const Terms found = fitted(shape, points_);
    std::vector<Terms> again;
    for (const auto& draw : drawn_) again.push_back(fitted(shape, draw));
    const auto parameters = parameters_of(shape, found);
    for (const auto& [name, value] : parameters) {
      std::vector<double> values;
      for (const Terms& terms : again) values.push_back(parameters_of(shape, terms).at(name));
      const double off = widening_ * deviation_of(values);
      fit.parameters[name] = {value, std::max(0.0, value - off), value + off};
    }
    for (int p = 1; p <= 4 * largest_; p = p < 8 ? p + 1 : p + p / 4)
      fit.speedup[p] = speedup_at(shape, found, again, p);
    for (const int p : {largest_, 2 * largest_}) fit.speedup[p] = speedup_at(shape, found, again, p);
    std::vector<double> limits;
    std::vector<double> peaks;
    for (const Terms& terms : again) {
      limits.push_back(limit_of(shape, terms));
      if (has_coherency(shape.model)) peaks.push_back(peak_of(parameters_of(shape, terms)));
    }
    const bool falls = has_coherency(shape.model) && parameters.at("coherency") > 0;
    if (!falls) fit.limit_speedup = ranked(limit_of(shape, found), limits);
    if (falls) fit.peak_workers = ranked(peak_of(parameters), peaks);
    const auto n = static_cast<double>(points_.size());
    const auto q = static_cast<double>(shape.terms);
    const double off = deviation(shape, points_, found);
    fit.aicc = off + 2 * q + 2 * q * (q + 1) / (n - q - 1);
    fit.misfit = off / chi_square_limit(n - q);
    return fit;
  }

 private:
  static constexpr int draws = 200;

  Bounds speedup_at(const Shape& shape, const Terms& found, const std::vector<Terms>& again, int p) const {
    std::vector<double> logs;
    for (const Terms& terms : again) logs.push_back(std::log(std::max(1e-300, model_at(shape, terms, p))));
    const double value = 1 / model_at(shape, found, p);
    const double factor = std::exp(widening_ * deviation_of(logs));
    return {value, value / factor, value * factor};
  }

  std::vector<Observed> points_;
  std::vector<std::vector<Observed>> drawn_;
  int largest_;
  double widening_ = 2;
};

}  // namespace

const char* name_of(ScalingModel model) noexcept {
  constexpr const char* names[] = {"serial fraction", "serial fraction and scale", "contention and coherency",
                                   "contention, coherency and scale"};
  return names[static_cast<std::size_t>(model)];
}

namespace {

// A formula without a term that falls knows no roof and no contention, so its interval beyond the measured counts holds
// what it assumes, not what will be. `largest`: the speedup at the largest count.
void know_no_more_than_data(ScalingFits& all, const Estimate& largest) {
  const int measured = all.workers.back();
  std::map<int, Bounds> envelope;
  for (const ScalingFit& fit : all.fits) {
    for (const auto& [p, bounds] : fit.speedup) {
      if (p <= measured) continue;
      const auto [at, fresh] = envelope.emplace(p, bounds);
      at->second.low = std::min({at->second.low, bounds.low, largest.low});
      at->second.high = std::max(at->second.high, bounds.high);
    }
  }
  const ScalingFit* falling = nullptr;
  for (const ScalingFit& fit : all.fits) {
    if (falling == nullptr && has_coherency(fit.model)) falling = &fit;
  }
  if (falling == nullptr)
    all.beyond =
        "no limit is told: a form that falls needs 5 worker counts, there are " + std::to_string(all.workers.size());
  for (ScalingFit& fit : all.fits) {
    for (const auto& [p, bounds] : envelope) fit.speedup[p] = bounds;
    if (!fit.limit_speedup) continue;
    const bool agrees = falling != nullptr && falling->limit_speedup &&
                        falling->limit_speedup->low <= fit.limit_speedup->high &&
                        falling->limit_speedup->high >= fit.limit_speedup->low;
    if (agrees) continue;
    fit.limit_speedup.reset();
    if (falling != nullptr) all.beyond = "no limit is told: a form that falls again lies within the noise, too";
  }
}

}  // namespace

ScalingFits fit_scaling(const ScalingData& data, int most_workers) {
  ScalingFits all;
  std::size_t fewest_rounds = std::numeric_limits<std::size_t>::max();
  for (const auto& [p, values] : data) {
    if (p > most_workers || values.empty()) continue;
    all.workers.push_back(p);
    fewest_rounds = std::min(fewest_rounds, values.size());
  }
  constexpr std::size_t more_than_parameters = 3;
  if (all.workers.size() < 1 + more_than_parameters) {
    all.refused = "a formula needs 4 worker counts at least, up to the processors; there are " +
                  std::to_string(all.workers.size());
    return all;
  }
  if (fewest_rounds < static_cast<std::size_t>(least_for_interval)) {
    all.refused = "too few rounds for the intervals of a formula";
    return all;
  }
  const Resamples resamples(data, all.workers);
  const Fitting fitting(resamples, all.workers.back());
  for (const Shape& shape : shapes) {
    if (all.workers.size() < shape.terms + more_than_parameters) continue;
    ScalingFit fit = fitting.of(shape);
    if (fit.misfit <= 1) all.fits.push_back(std::move(fit));
  }
  std::stable_sort(all.fits.begin(), all.fits.end(),
                   [](const ScalingFit& a, const ScalingFit& b) { return a.aicc < b.aicc; });
  if (all.fits.empty()) {
    all.refused = "no formula lies within the noise of the points";
    return all;
  }
  std::vector<double> speedups;
  for (const auto& [round, value] : data.at(all.workers.back())) speedups.push_back(1 / value);
  know_no_more_than_data(all, median_interval(std::move(speedups)));
  return all;
}

std::vector<CurveModels> models_of(const Analysed& study) {
  std::vector<CurveModels> all;
  for (const auto& curve : study.curves) {
    const CellFigures& last = study.cells[curve.back()];
    const bool told = last.cell->kind == Cell::Kind::variant && last.newest && last.baseline >= 0 &&
                      last.cell->point == study.conclusion.point && curve.size() > 1;
    if (!told) continue;
    ScalingData data;
    bool waits = true;
    for (const std::size_t k : curve) {
      const CellFigures& f = study.cells[k];
      if (f.verdict != Verdict::holds) continue;
      const Cell& baseline = *study.cells[static_cast<std::size_t>(last.baseline)].cell;
      data[f.cell->workers] = ratios_of(*f.cell, baseline, exploring);
      waits = waits && f.busy_processors && *f.busy_processors <= 0.5 * study.record->machine.usable_processors();
    }
    const int most = waits ? std::numeric_limits<int>::max() : study.record->machine.usable_processors();
    all.push_back({&last, fit_scaling(data, most)});
  }
  return all;
}

}  // namespace antcrew::analysis_layer
