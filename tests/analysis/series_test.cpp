// Neighbours that resemble each other, trends, blocks, changes over runs: known series.
#include "antcrew/analysis/series.hpp"

#include <doctest/doctest.h>

#include <cmath>
#include <random>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/change_points.hpp"
#include "antcrew/analysis/claim.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using doctest::Approx;

namespace {

std::vector<double> resembling(double r, std::size_t n, std::mt19937_64& random) {
  std::normal_distribution<double> normal;
  std::vector<double> values;
  double last = normal(random);
  for (std::size_t k = 0; k < n; ++k) {
    last = r * last + std::sqrt(1 - r * r) * normal(random);
    values.push_back(last);
  }
  return values;
}

}  // namespace

TEST_CASE("the correlation of neighbours is found without bias, in long series and in short ones") {
  for (const double r : {0.0, 0.3, 0.6}) {
    for (const std::size_t n : {std::size_t{12}, std::size_t{40}}) {
      std::mt19937_64 random(11);
      double mean = 0;
      for (int k = 0; k < 1500; ++k) mean += neighbour_correlation({resembling(r, n, random)}) / 1500;
      CAPTURE(r);
      CAPTURE(n);
      CHECK(std::fabs(mean - r) < 0.09);
    }
  }
  CHECK(neighbour_correlation({{1, 2, 3}}) == 0);                             // too short
  CHECK(neighbour_correlation({{1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1}}) == 0);  // nothing varies
  CHECK(neighbour_correlation({{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12}}) > 0.7);
}

TEST_CASE("intervals grow by what neighbours share, less where they are together in a block") {
  CHECK(widening(0) == 1);
  CHECK(widening(-0.5) == 1);
  CHECK(widening(0.5) == Approx(std::sqrt(3.0)));
  CHECK(widening(0.5, 4) < widening(0.5, 2));
  CHECK(widening(0.5, 400) == Approx(1).epsilon(0.01));
  const Estimate wide = widened({2, 1, 4, 9, true}, 2);
  CHECK(wide.low == Approx(0.5));
  CHECK(wide.high == Approx(8));
  CHECK(widened({2, 1, 4, 9, false}, 2).low == 1);  // what was seen stays
}

TEST_CASE("a trend is told from none; the mean of ratios has Student's interval") {
  CHECK(trend({1, 2, 3}) == 0);
  CHECK(trend({1, 2, 3, 4, 5, 6, 7, 8}) > 3);
  CHECK(trend({8, 7, 6, 5, 4, 3, 2, 1}) < -3);
  CHECK(std::fabs(trend({1, 8, 2, 7, 3, 6, 4, 5})) < 1.3);
  const Estimate mean = mean_ratio(
      {std::exp(0.1), std::exp(0.2), std::exp(0.3), std::exp(0.1), std::exp(0.2), std::exp(0.3)}, 0.95, false);
  CHECK(std::log(mean.median) == Approx(0.2));
  // s = 0.0894427, t of 5 degrees 2.570582, n = 6.
  CHECK(std::log(mean.high) - 0.2 == Approx(0.0894427 * 2.570582 / std::sqrt(6.0)).epsilon(1e-4));
  CHECK_FALSE(mean_ratio({1, 2, 3}, 0.95, false).claimed);
  // One stall in ten does not move what is trimmed.
  std::vector<double> stalled(10, 1.5);
  stalled[3] = 9;
  stalled[5] = 1.52;
  CHECK(mean_ratio(stalled, 0.95, true).median == Approx(1.5).epsilon(0.01));
}

TEST_CASE("a change for good is found where it is, and noise is none") {
  std::mt19937_64 random(4);
  std::normal_distribution<double> normal;
  std::vector<double> stepped;
  for (int run = 0; run < 24; ++run) stepped.push_back((run < 15 ? 2.0 : 1.8) * std::exp(0.015 * normal(random)));
  const auto found = change_points(stepped, 0.01);
  REQUIRE(found.size() == 1);
  CHECK(std::abs(static_cast<int>(found[0].at) - 15) <= 1);
  CHECK(found[0].before == Approx(2).epsilon(0.02));
  CHECK(found[0].after == Approx(1.8).epsilon(0.02));
  int told = 0;
  for (int k = 0; k < 200; ++k) {
    std::vector<double> noise;
    for (int run = 0; run < 20; ++run) noise.push_back(std::exp(0.05 * normal(random)));
    told += change_points(noise, 0.05).empty() ? 0 : 1;
  }
  CHECK(told <= 20);
  CHECK(change_points({1, 1, 1, 2, 2}, 0.05).empty());  // too few
  std::vector<double> twice;
  for (int run = 0; run < 30; ++run)
    twice.push_back((run < 10 ? 1.0 : run < 20 ? 1.5 : 1.2) * std::exp(0.01 * normal(random)));
  const auto both = change_points(twice, 0.01);
  REQUIRE(both.size() == 2);
  CHECK(std::abs(static_cast<int>(both[0].at) - 10) <= 1);
  CHECK(std::abs(static_cast<int>(both[1].at) - 20) <= 1);
}

TEST_CASE("records of before blocks were counted say what they said") {
  Record record = test::record_of({test::cell_with("baseline", 1, {4, 4.1, 3.9, 4, 4.05, 3.95, 4}),
                                   test::cell_with("split", 2, {2, 2.05, 1.95, 2, 2, 2.02, 1.98})});
  const Analysed before = analyse(record);
  CHECK(before.conclusion.matters == 0);
  CHECK(before.conclusion.answer == Conclusion::Kind::best);
  CHECK(before.cells[1].correlation == 0);
  record.plan.matters = 0.01;  // now: one block alone is no reason to call anything the best
  CHECK(analyse(record).conclusion.answer == Conclusion::Kind::faster);
}
