#include "antcrew/study/agreement.hpp"

#include <doctest/doctest.h>

#include <limits>
#include <map>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/column.hpp"
#include "support/command.hpp"

using namespace antcrew;

TEST_CASE("within: absolute below one, relative above") {
  const Within near = within(1e-6);
  CHECK(near(0.0, 9e-7).agree);
  CHECK_FALSE(near(0.0, 2e-6).agree);
  CHECK(near(1e9, 1e9 + 900).agree);
  CHECK_FALSE(near(1e9, 1e9 + 1100).agree);
  CHECK(near(3, 3.0000001).agree);
  CHECK(within(-1).mistake() == "a tolerance of -1");
  CHECK(within(std::numeric_limits<double>::quiet_NaN()).mistake() == "a tolerance of nan");
  CHECK(near.mistake().empty());
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

TEST_CASE("texts are compared as text, and the first difference is shown") {
  const std::string long_one(1000, 'r');
  std::string other = long_one;
  other.replace(500, 3, "\x1b\n\xff");
  const Difference found = exactly()(long_one, other);
  CHECK(found.differing == 1);
  CHECK(found.in_words() == "the texts differ from byte 500 on (of 1000 and 1000): expected \"…" +
                                std::string(39, 'r') + "…\", got \"…" + std::string(10, 'r') + "  \xEF\xBF\xBD" +
                                std::string(26, 'r') + "…\"");
  CHECK(exactly()(std::string("reach"), std::string("rea")).in_words() ==
        "the texts differ from byte 3 on (of 5 and 3): expected \"reach\", got \"rea\"");
  CHECK(exactly()(std::vector<std::string>{"a", "b"}, std::vector<std::string>{"a", "b"}).agree);
}

TEST_CASE("a tolerance that everything passes is objected to") {
  const Within absolute = within(1e-3);
  CHECK(test::contains(absolute.objection_to(std::vector<double>{0, 4e-7, -2e-5}), "the largest is 2e-05"));
  CHECK(absolute.objection_to(std::vector<double>{0, 4e-7, 0.5}).empty());
  CHECK(absolute.objection_to(std::vector<double>{0, 0}).empty());  // zero is told from what is larger
  CHECK(absolute.objection_to(std::make_pair(1e-9, std::vector<float>{2e-9f})).size() > 0);
  CHECK(absolute.objection_to(std::numeric_limits<double>::quiet_NaN()).empty());
}
