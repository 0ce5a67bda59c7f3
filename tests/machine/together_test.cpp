#include "antcrew/machine/together.hpp"

#include <doctest/doctest.h>

#include "antcrew/machine/topology.hpp"

using namespace antcrew;
using namespace antcrew::layers;

TEST_CASE("one worker computes and reads, and moves no line") {
  const TogetherTimes alone = times_together(1);
  CHECK(alone.arithmetic_s > 0);
  CHECK(alone.bytes_per_s > 1e6);
  CHECK(alone.line_move_s == 0);
}

TEST_CASE("as many workers as there are processors do so together, one after the other any number of times") {
  const int all = static_cast<int>(processor_order(Nearness::apart).size());
  for (int k = 0; k < 3; ++k) {
    const TogetherTimes together = times_together(all);
    CHECK(together.arithmetic_s > 0);
    CHECK(together.bytes_per_s > 1e6);
    if (all > 1) CHECK(together.line_move_s >= 0);  // 0 where another program has one of the two processors
  }
}

TEST_CASE("more workers than processors, or none, are not tried") {
  const int all = static_cast<int>(processor_order(Nearness::apart).size());
  for (const int workers : {0, -3, all + 1, 100'000}) {
    const TogetherTimes none = times_together(workers);
    CHECK(none.arithmetic_s == 0);
    CHECK(none.bytes_per_s == 0);
    CHECK(none.line_move_s == 0);
  }
}
