// Against figures worked by hand.
#include "antcrew/analysis/speedup.hpp"

#include <doctest/doctest.h>

#include "antcrew/analysis/statistics.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using doctest::Approx;

TEST_CASE("efficiency, overhead, penalty and serial fraction") {
  // T_s = 12 s, T_4 = 4 s: S = 3, E = 0.75, T_o = 4·4 − 12 = 4, T_o/T_s = 1/3.
  CHECK(efficiency(3, 4) == Approx(0.75));
  CHECK(overhead_s(12, 4, 4) == Approx(4));
  CHECK(relative_overhead(12, 4, 4) == Approx(1.0 / 3));
  CHECK(overhead_s(12, 2.5, 4) == Approx(-2));  // superlinear
  CHECK(one_worker_penalty(12, 15) == Approx(0.25));
  // e = (1/3 − 1/4) / (1 − 1/4) = 1/9.
  CHECK(*serial_fraction(3, 4, 8) == Approx(1.0 / 9));
  CHECK(*serial_fraction(2, 2, 2) == Approx(0));
  CHECK(*serial_fraction(1, 2, 2) == Approx(1));
}

TEST_CASE("a serial fraction is only claimed between 2 workers and the processors") {
  CHECK_FALSE(serial_fraction(1, 1, 8).has_value());
  CHECK_FALSE(serial_fraction(2, 4, 2).has_value());
  CHECK(serial_fraction(1.5, 2, 2).has_value());
}

TEST_CASE("median and its interval") {
  CHECK(median({3, 1, 2}) == 2);
  CHECK(median({4, 1, 2, 3}) == 2.5);

  const Estimate few = median_interval({5, 1, 3});
  CHECK(few.median == 3);
  CHECK(few.low == 1);
  CHECK(few.high == 5);
  CHECK_FALSE(few.claimed);

  // n = 10: depth 2 covers 1 − 2·11/1024 = 0.978516, depth 3 covers 1 − 2·56/1024 = 0.890625.
  // I = (0.978516 − 0.95) / (0.978516 − 0.890625) = 0.324444; λ = 8·I / (2 + 6·I) = 0.657657…
  const Estimate ten = median_interval({1, 2, 3, 4, 5, 6, 7, 8, 9, 10});
  const double outer = 1 - 22.0 / 1024;
  const double share = (outer - 0.95) / (outer - (1 - 112.0 / 1024));
  const double weight = 8 * share / (2 + 6 * share);
  CHECK(ten.claimed);
  CHECK(ten.low == Approx(2 + weight));
  CHECK(ten.high == Approx(9 - weight));
  CHECK(ten.median == 5.5);
}

TEST_CASE("six equal-sized values are the fewest an interval is claimed for") {
  CHECK_FALSE(median_interval({1, 2, 3, 4, 5}).claimed);
  const Estimate six = median_interval({1, 2, 3, 4, 5, 6});
  CHECK(six.claimed);
  CHECK(six.low > 1);  // 1 … 6 would cover 96.9 %
  CHECK(six.low < 2);
  CHECK_FALSE(median_interval({1, 2, 3, 4, 5, 6}, 0.99).claimed);
}

TEST_CASE("figures that do not move give an interval of no width") {
  const Estimate same = median_interval({2, 2, 2, 2, 2, 2, 2});
  CHECK(same.low == 2);
  CHECK(same.high == 2);
  CHECK_FALSE(same.leaves_out(2));
  CHECK(same.leaves_out(2.1));
}
