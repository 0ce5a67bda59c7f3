// The figure of bytes moved under what the machine reads.
#include <doctest/doctest.h>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/report/figure.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;

namespace {

Record record_that_counts(const char* quantity) {
  const std::vector<double> times(8, 0.5);
  auto variant = test::cell_with("reads", 2, times);
  for (Trial& trial : variant.trials) trial.quantities[quantity] = 4e9;
  Record record = test::record_of({test::cell_with("baseline", 1, std::vector<double>(8, 1.0)), variant});
  record.together = {{1, 26e-6, 9e9, 0}, {2, 26e-6, 11e9, 80e-9}};
  return record;
}

}  // namespace

TEST_CASE("bytes that a variant counts are drawn a second, under what the machine reads") {
  const Record record = record_that_counts("bytes");
  const auto figure = figure_of(analyse(record), "roofline");
  REQUIRE(figure);
  REQUIRE(figure->panels.size() == 1);
  const Panel& panel = figure->panels.front();
  REQUIRE(panel.references.size() == 1);
  CHECK(panel.references.front().points.back().second == 11e9);
  REQUIRE(panel.series.size() == 1);
  REQUIRE(panel.series.front().points.size() == 1);
  CHECK(panel.series.front().points.front().y == doctest::Approx(8e9));
  CHECK(panel.y.to >= 11e9);
  CHECK(figure->table.rows.size() == 3);
}

TEST_CASE("there is no such figure where nobody counts bytes, or nothing was measured of the machine") {
  const Record others = record_that_counts("buffers");
  CHECK(!figure_of(analyse(others), "roofline"));
  Record unknown = record_that_counts("bytes");
  unknown.together.clear();
  CHECK(!figure_of(analyse(unknown), "roofline"));
}
