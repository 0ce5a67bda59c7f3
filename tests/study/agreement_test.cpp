#include "antcrew/study/agreement.hpp"

#include <doctest/doctest.h>

#include <limits>
#include <map>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/column.hpp"

using namespace antcrew;

TEST_CASE("within: absolute below one, relative above") {
  const Within near = within(1e-6);
  CHECK(near(0.0, 9e-7).agree);
  CHECK_FALSE(near(0.0, 2e-6).agree);
  CHECK(near(1e9, 1e9 + 900).agree);
  CHECK_FALSE(near(1e9, 1e9 + 1100).agree);
  CHECK(near(3, 3.0000001).agree);
  CHECK_THROWS_AS(within(-1), Error);
  CHECK_THROWS_AS(within(std::numeric_limits<double>::quiet_NaN()), Error);
}

TEST_CASE("not a number and infinity agree with themselves only") {
  const double nan = std::numeric_limits<double>::quiet_NaN();
  const double inf = std::numeric_limits<double>::infinity();
  CHECK(within(1)(nan, nan).agree);
  CHECK(within(1)(inf, inf).agree);
  CHECK_FALSE(within(1)(inf, -inf).agree);
  CHECK_FALSE(within(1)(inf, 1.0).agree);
  CHECK_FALSE(within(1)(1.0, nan).agree);
  CHECK_FALSE(within(1e300)(1.0, inf).agree);
}

TEST_CASE("ranges of different types, nested, in tuples") {
  const std::vector<double> expected = {1, 2, 3};
  const std::vector<float> got = {1, 2.5f, 7};
  const Difference found = within(0.1)(expected, got);
  CHECK_FALSE(found.agree);
  CHECK(found.in_words() == "2 of 3 values differ, most at [2]: expected 3, got 7 (difference 4)");
  CHECK(within(0.1)(std::vector<std::vector<double>>{{1}, {2, 3}}, std::vector<std::vector<double>>{{1}, {2, 3.05}})
            .agree);
  CHECK(within(0.1)(std::make_pair(1, std::vector<double>{2}), std::make_pair(1, std::vector<double>{2.01})).agree);
  CHECK_FALSE(within(0.1)(std::map<int, double>{{1, 2.0}}, std::map<int, double>{{1, 3.0}}).agree);
  CHECK(within(0)(expected, std::vector<double>{1, 2}).in_words() == "expected 3 elements, got 2");
}

TEST_CASE("exactly, for whole numbers of different signs and for texts") {
  CHECK(exactly()(std::vector<int>{1, 2}, std::vector<long>{1, 2}).agree);
  CHECK_FALSE(exactly()(-1, 4294967295u).agree);
  CHECK(exactly()(std::string("reach"), std::string("reach")).agree);
  CHECK_FALSE(exactly()(std::string("reach"), std::string("beach")).agree);
  CHECK_FALSE(exactly()(0.1 + 0.2, 0.3).agree);
}
