// Intervals keep what they promise, also at the end of a run that stopped because they looked narrow.
#include <doctest/doctest.h>

#include <cmath>
#include <functional>
#include <random>

#include "antcrew/analysis/stages.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "support/shared_out.hpp"

using namespace antcrew;
using namespace antcrew::layers;

namespace {

struct Distribution {
  const char* name;
  double median;
  std::function<double(std::mt19937_64&)> draw;
};

std::vector<Distribution> distributions() {
  const auto normal = [](std::mt19937_64& g) { return 1 + 0.1 * std::normal_distribution<>()(g); };
  const auto skewed = [](std::mt19937_64& g) { return 1 + 0.1 * std::lognormal_distribution<>()(g); };
  // Three in five from one hump, two from another ten of its widths away; the median is the first's 5/6 quantile.
  const auto humped = [](std::mt19937_64& g) {
    const double spread = 0.03 * std::normal_distribution<>()(g);
    return (std::uniform_real_distribution<>()(g) < 0.6 ? 1.0 : 1.3) + spread;
  };
  return {{"normal", 1, normal}, {"skewed", 1.1, skewed}, {"two humps", 1 + 0.03 * 0.967421566101701, humped}};
}

struct Coverage {
  double share = 0;
  double rounds = 0;
};

// The share of simulated runs whose final interval holds the median.
Coverage coverage(const Distribution& of, double width, int runs) {
  std::mt19937_64 random(20'260'101);
  int held = 0;
  double rounds = 0;
  for (int run = 0; run < runs; ++run) {
    StageWatch watch(width);
    std::vector<double> ratios;
    Estimate estimate;
    for (int round = 1; round <= stage_ends.back(); ++round) {
      ratios.push_back(of.draw(random));
      if (!is_stage_end(round)) continue;
      estimate = median_interval(ratios, staged_level);
      if (watch.finished(estimate)) break;
    }
    held += estimate.low <= of.median && of.median <= estimate.high ? 1 : 0;
    rounds += static_cast<double>(ratios.size());
  }
  return {static_cast<double>(held) / runs, rounds / runs};
}

}  // namespace

TEST_CASE("95 % intervals cover 94 to 97 % at the end of a staged run, whatever width was asked for") {
  const auto all = distributions();
  const std::vector<double> widths{0, 0.03, 0.05, 0.08, 0.12, 1};
  const auto covered = test::shared_out(all.size() * widths.size(), [&](std::size_t k) {
    return coverage(all[k / widths.size()], widths[k % widths.size()], 10'000);
  });
  for (std::size_t k = 0; k < covered.size(); ++k) {
    MESSAGE(std::string(all[k / widths.size()].name), ", width ", widths[k % widths.size()], ": covered ",
            covered[k].share, ", rounds ", covered[k].rounds);
    CHECK(covered[k].share >= 0.94);
    CHECK(covered[k].share <= 0.97);
    CHECK(covered[k].rounds >= stage_ends[1]);
  }
}

TEST_CASE("a fixed number of rounds, from 7 to 60: the plain level holds, but for a little") {
  const auto all = distributions();
  const std::vector<int> lengths{7, 9, 15, 30, 60};
  const auto shares = test::shared_out(all.size() * lengths.size(), [&](std::size_t k) {
    const Distribution& of = all[k / lengths.size()];
    std::mt19937_64 random(5);
    int held = 0;
    const int runs = 10'000;
    for (int run = 0; run < runs; ++run) {
      std::vector<double> ratios;
      for (int round = 0; round < lengths[k % lengths.size()]; ++round) ratios.push_back(of.draw(random));
      const Estimate estimate = median_interval(ratios);
      held += estimate.low <= of.median && of.median <= estimate.high ? 1 : 0;
    }
    return static_cast<double>(held) / runs;
  });
  for (std::size_t k = 0; k < shares.size(); ++k) {
    CAPTURE(std::string(all[k / lengths.size()].name));
    CAPTURE(lengths[k % lengths.size()]);
    CHECK(shares[k] >= 0.935);  // between two humps, interpolated order statistics fall a little short
    CHECK(shares[k] <= 0.97);
  }
}

TEST_CASE("what looked narrow once must be confirmed by the next stage") {
  const Estimate narrow{1, 0.99, 1.01, 7, true};
  const Estimate wide{1, 0.5, 1.5, 11, true};
  StageWatch watch(0.05);
  CHECK_FALSE(watch.finished(narrow));
  CHECK(watch.finished(wide));
  StageWatch unlucky(0.05);
  CHECK_FALSE(unlucky.finished(wide));
  CHECK_FALSE(unlucky.finished(narrow));
  CHECK(unlucky.finished(narrow));
  StageWatch few(0.05);
  CHECK_FALSE(few.finished({1, 1, 1, 3, false}));
  CHECK_FALSE(few.finished(narrow));
}
