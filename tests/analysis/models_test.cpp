#include "antcrew/analysis/models.hpp"

#include <doctest/doctest.h>

#include <algorithm>
#include <cstdlib>
#include <functional>
#include <random>
#include "support/shared_out.hpp"

using namespace antcrew::layers;
using doctest::Approx;

namespace {

using Formula = std::function<double(double)>;

Formula serial(double s, double scale = 1) {
  return [=](double p) { return scale * (s + (1 - s) / p); };
}
Formula contended(double sigma, double kappa, double scale = 1) {
  return [=](double p) { return scale * (1 + sigma * (p - 1) + kappa * p * (p - 1)) / p; };
}

// Rounds share some of their noise: that of the baseline.
ScalingData simulated(const Formula& y, const std::vector<int>& workers, int rounds, double noise, std::uint64_t seed) {
  std::mt19937_64 random(seed);
  std::normal_distribution<double> error(0, noise / std::sqrt(2.0));
  ScalingData data;
  for (int round = 1; round <= rounds; ++round) {
    const double of_baseline = error(random);
    for (const int p : workers) data[p][round] = y(p) * std::exp(error(random) - of_baseline);
  }
  return data;
}

const std::vector<int> counts = {1, 2, 3, 4, 6, 8, 12, 16};

const ScalingFit* of_model(const ScalingFits& fits, ScalingModel model) {
  for (const ScalingFit& fit : fits.fits) {
    if (fit.model == model) return &fit;
  }
  return nullptr;
}

// The share of simulated studies whose interval of that parameter holds the true value.
double coverage(const Formula& y, ScalingModel model, const std::string& name, double truth, int rounds) {
  const int studies = std::getenv("ANTCREW_ALL_RUNS") != nullptr ? 500 : 120;
  enum class Outcome { none, missed, covered };
  const auto outcomes = test::shared_out(static_cast<std::size_t>(studies), [&](std::size_t k) {
    const ScalingFits fits = fit_scaling(simulated(y, counts, rounds, 0.03, 1000 + k), 16);
    const ScalingFit* fit = of_model(fits, model);
    if (fit == nullptr) return Outcome::none;
    const Bounds& bounds = fit->parameters.at(name);
    return bounds.low <= truth && truth <= bounds.high ? Outcome::covered : Outcome::missed;
  });
  const auto covered = std::count(outcomes.begin(), outcomes.end(), Outcome::covered);
  const auto fitted = covered + std::count(outcomes.begin(), outcomes.end(), Outcome::missed);
  CHECK(fitted >= 0.95 * studies);
  return static_cast<double>(covered) / static_cast<double>(fitted);
}

}  // namespace

TEST_CASE("without noise every formula gives back what was put in") {
  const ScalingFits fits = fit_scaling(simulated(contended(0.05, 0.002, 1.3), counts, 9, 0, 1), 16);
  const ScalingFit* fit = of_model(fits, ScalingModel::contention_scaled);
  REQUIRE(fit != nullptr);
  CHECK(fit->parameters.at("contention").value == Approx(0.05));
  CHECK(fit->parameters.at("coherency").value == Approx(0.002));
  CHECK(fit->parameters.at("scale").value == Approx(1.3));
  CHECK(fit->peak_workers->value == Approx(std::sqrt(0.95 / 0.002)));
  const ScalingFits plain = fit_scaling(simulated(serial(0.2), counts, 9, 0, 1), 16);
  CHECK(plain.fits.front().model == ScalingModel::serial_fraction);
  REQUIRE(plain.fits.front().limit_speedup);  // the form that could fall does not
  CHECK(plain.fits.front().limit_speedup->value == Approx(5));
  CHECK(plain.fits.front().speedup.at(4).value == Approx(1 / (0.2 + 0.8 / 4)));
}

TEST_CASE("known parameters lie in their intervals in 93 % of simulated studies, and more") {
  // Of fewer studies the share itself is known less well.
  const double least = std::getenv("ANTCREW_ALL_RUNS") != nullptr ? 0.93 : 0.89;
  for (const int rounds : {7, 17}) {
    CAPTURE(rounds);
    CHECK(coverage(serial(0.1), ScalingModel::serial_fraction, "serial_fraction", 0.1, rounds) >= least);
    CHECK(coverage(serial(0.1, 1.2), ScalingModel::serial_fraction_scaled, "serial_fraction", 0.1, rounds) >= least);
    CHECK(coverage(serial(0.1, 1.2), ScalingModel::serial_fraction_scaled, "scale", 1.2, rounds) >= least);
    CHECK(coverage(contended(0.05, 0.005), ScalingModel::contention, "contention", 0.05, rounds) >= least);
    CHECK(coverage(contended(0.05, 0.005), ScalingModel::contention, "coherency", 0.005, rounds) >= least);
    CHECK(coverage(contended(0.05, 0.005, 0.8), ScalingModel::contention_scaled, "coherency", 0.005, rounds) >= least);
  }
}

TEST_CASE("too few worker counts or rounds are refused with a reason, and those beyond the processors are not used") {
  const ScalingData data = simulated(serial(0.1), {1, 2, 3, 4, 6}, 9, 0.01, 1);
  CHECK(fit_scaling(data, 3).refused == "a formula needs 4 worker counts at least, up to the processors; there are 3");
  CHECK(fit_scaling(data, 4).workers == std::vector<int>{1, 2, 3, 4});
  CHECK(fit_scaling(data, 4).fits.size() == 1);  // two parameters need five
  CHECK_FALSE(fit_scaling(simulated(serial(0.1), counts, 5, 0.01, 1), 16).refused.empty());
}

TEST_CASE("what no formula follows is not told") {
  const Formula steps = [](double p) { return p < 3 ? 1.0 : p < 7 ? 0.3 : 0.6; };
  const ScalingFits fits = fit_scaling(simulated(steps, counts, 9, 0.01, 1), 16);
  CHECK(fits.fits.empty());
  CHECK(fits.refused == "no formula lies within the noise of the points");
}

TEST_CASE("a curve that falls again is not taken for one with a limit") {
  const ScalingFits fits = fit_scaling(simulated(contended(0.02, 0.01), counts, 11, 0.03, 3), 16);
  REQUIRE_FALSE(fits.fits.empty());
  CHECK(fits.fits.front().model == ScalingModel::contention);
  CHECK_FALSE(fits.fits.front().limit_speedup.has_value());
  CHECK(fits.fits.front().peak_workers->low < std::sqrt(0.98 / 0.01));
  CHECK(fits.fits.front().peak_workers->high > std::sqrt(0.98 / 0.01));
  CHECK(of_model(fits, ScalingModel::serial_fraction) == nullptr);
}

TEST_CASE("beyond what was measured the truth lies in the envelope, also where a roof or contention comes") {
  const std::vector<int> four = {1, 2, 3, 4};
  const Formula roof = [](double p) { return 1 / std::min(p, 3.6); };
  const Formula roof_at_once = [](double p) { return 1 / std::min(p, 4.2); };
  for (const Formula& truth : {contended(0.05, 0.01), contended(0.02, 0.003), roof, roof_at_once, serial(0.1)}) {
    int inside = 0;
    int told = 0;
    for (std::uint64_t k = 0; k < 60; ++k) {
      const ScalingFits fits = fit_scaling(simulated(truth, four, 17, 0.03, 500 + k), 16);
      if (fits.fits.empty()) continue;
      ++told;
      CHECK_FALSE(fits.fits.front().limit_speedup);
      CHECK(fits.beyond.find("needs 5 worker counts") != std::string::npos);
      const Bounds& at = fits.fits.front().speedup.at(8);
      inside += at.low <= 1 / truth(8) && 1 / truth(8) <= at.high ? 1 : 0;
    }
    CHECK(inside >= 0.85 * told);
  }
}
