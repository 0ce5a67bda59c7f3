#include "antcrew/analysis/sizes.hpp"
#include "antcrew/analysis/analysed.hpp"

#include <doctest/doctest.h>

#include <cmath>
#include <cstdlib>
#include <functional>
#include <random>

#include "support/records.hpp"

using namespace antcrew::layers;
using doctest::Approx;

namespace {

using TimeOf = std::function<double(double)>;

struct Noise {
  std::mt19937_64 random;
  std::normal_distribution<double> error{0, 0.03};
  explicit Noise(std::uint64_t seed) : random(seed) {}
  std::vector<double> around(double time, int rounds) {
    std::vector<double> times;
    for (int k = 0; k < rounds; ++k) times.push_back(time * std::exp(error(random)));
    return times;
  }
};

// One variant with two workers over some sizes.
Record over_sizes(const std::vector<std::size_t>& sizes, const TimeOf& baseline, const TimeOf& variant, int rounds = 11,
                  std::uint64_t seed = 1) {
  Noise noise(seed);
  Record record = test::record_of({});
  record.points.clear();
  for (const std::size_t size : sizes) {
    record.points.push_back(antcrew::StudyPoint{size});
    for (const bool is_variant : {false, true}) {
      const double time = (is_variant ? variant : baseline)(static_cast<double>(size));
      Cell cell = test::cell_with(is_variant ? "split" : "baseline", is_variant ? 2 : 1, noise.around(time, rounds));
      cell.point = record.points.size() - 1;
      record.cells.push_back(std::move(cell));
    }
  }
  return record;
}

TimeOf line(double fixed_s, double per_item_s) {
  return [=](double n) { return fixed_s + per_item_s * n; };
}

int studies() {
  return std::getenv("ANTCREW_ALL_RUNS") != nullptr ? 500 : 60;
}

}  // namespace

TEST_CASE("the crossover of a planted fixed cost and cost an item lies within its bounds in 95 % of studies") {
  // A call costs 1 ms more and an item half as much: equal at 1 ms / 0.5 µs = 2,000 items.
  int inside = 0;
  int known = 0;
  for (int k = 0; k < studies(); ++k) {
    const Record record = over_sizes({100, 1'000, 10'000, 100'000}, line(0, 1e-6), line(1e-3, 0.5e-6), 11,
                                     100 + static_cast<std::uint64_t>(k));
    const Analysed study = analyse(record);
    const auto found = crossovers_of(study);
    REQUIRE(found.size() == 1);
    known += found[0].kind == Crossover::Kind::between ? 1 : 0;
    inside += found[0].size.low <= 2000 && 2000 <= found[0].size.high ? 1 : 0;
    CHECK(found[0].sure_from == 10'000);
  }
  CHECK(known >= 0.95 * studies());
  CHECK(inside >= 0.95 * studies());
}

TEST_CASE("faster everywhere, nowhere, or only beyond the sizes: told apart, with the size to add") {
  const std::vector<std::size_t> sizes = {100, 1'000, 10'000};
  const Record faster = over_sizes(sizes, line(0, 1e-6), line(0, 0.5e-6));
  CHECK(crossovers_of(analyse(faster))[0].kind == Crossover::Kind::everywhere);
  const Analysed nowhere = analyse(faster);
  const Record slower = over_sizes(sizes, line(0, 1e-6), line(1e-3, 2e-6));
  const Analysed slow = analyse(slower);
  CHECK(crossovers_of(slow)[0].kind == Crossover::Kind::nowhere);
  CHECK(crossovers_of(slow)[0].size_to_add == 100'000);
  const Record equal = over_sizes(sizes, line(0, 1e-6), line(0, 1e-6));
  const Analysed open = analyse(equal);
  CHECK(crossovers_of(open)[0].kind == Crossover::Kind::open);
  CHECK(crossovers_of(open)[0].sure_from == 0);
  const Record wide = over_sizes({10, 1'000'000}, line(0, 1e-6), line(1e-3, 0.5e-6));
  const Analysed gap = analyse(wide);
  CHECK(std::isinf(crossovers_of(gap)[0].size.high) == false);
}

TEST_CASE("where times are no lines over the size, a crossover lies in the bracket of measured sizes") {
  const auto square = [](double each) { return [=](double n) { return 1e-4 + each * n * n; }; };
  const auto n_log_n = [](double fixed_s, double each) {
    return [=](double n) { return fixed_s + each * n * std::log(n); };
  };
  const auto cached = [](double n) { return n < 3'000 ? 1e-6 * n : 3e-6 * n; };
  struct Pair {
    TimeOf baseline, variant;
    double truth;
  };
  // Where the two are equal: found by halving.
  for (Pair pair : {Pair{square(1e-9), [&](double n) { return 1.1e-3 + 0.5e-9 * n * n; }, 0},
                    Pair{n_log_n(0, 1e-7), n_log_n(1e-3, 0.5e-7), 0}, Pair{cached, line(2e-3, 1e-6), 0}}) {
    double low = 100, high = 100'000;
    for (int k = 0; k < 60; ++k) {
      const double middle = std::sqrt(low * high);
      (pair.variant(middle) > pair.baseline(middle) ? low : high) = middle;
    }
    pair.truth = high;
    int inside = 0;
    for (int k = 0; k < studies(); ++k) {
      const Record record = over_sizes({100, 1'000, 10'000, 100'000}, pair.baseline, pair.variant, 11,
                                       300 + static_cast<std::uint64_t>(k));
      const Analysed study = analyse(record);
      const Crossover found = crossovers_of(study).at(0);
      inside += found.size.low <= pair.truth && pair.truth <= found.size.high ? 1 : 0;
    }
    CAPTURE(pair.truth);
    CHECK(inside >= 0.93 * studies());
  }
}

TEST_CASE("a size with too few rounds for an interval leaves bounds that are numbers, not none") {
  Record record = over_sizes({100, 1'000, 10'000}, line(0, 1e-6), line(0, 0.5e-6));
  for (Cell& cell : record.cells) {
    if (cell.point == 0) cell.trials.resize(3);
  }
  const Analysed study = analyse(record);
  const Crossover found = crossovers_of(study).at(0);
  CHECK_FALSE(std::isnan(found.size.value));
  CHECK_FALSE(std::isnan(found.size.low));
  CHECK(found.size.high == 1'000);  // beyond doubt from there on
  CHECK(found.kind == Crossover::Kind::between);
  CHECK(found.sure_from == 1'000);
}

TEST_CASE("lines over the size give back what is fixed, what an item costs, and where it pays back") {
  Record record = over_sizes({1'000, 10'000, 100'000, 1'000'000}, line(1e-5, 1e-6), line(1e-3, 0.4e-6));
  for (Cell& cell : record.cells) cell.startup_s = {0.06};
  const Analysed study = analyse(record);
  const auto lines = size_lines_of(study);
  REQUIRE(lines.size() == 1);
  CHECK(lines[0].fixed_s.low < 1e-3);
  CHECK(lines[0].fixed_s.high > 1e-3);
  CHECK(lines[0].per_item_s.value == Approx(0.4e-6).epsilon(0.03));
  REQUIRE(lines[0].break_even_size.has_value());
  CHECK(lines[0].break_even_size->low < (1e-3 - 1e-5) / 0.6e-6);
  CHECK(lines[0].break_even_size->high > (1e-3 - 1e-5) / 0.6e-6);
  CHECK(*lines[0].break_even_calls == Approx(0.06 / 0.6).epsilon(0.1));
  const Record squared = over_sizes({100, 1'000, 10'000}, line(0, 1e-6), [](double n) { return 1e-9 * n * n; });
  CHECK(size_lines_of(analyse(squared)).empty());
}

TEST_CASE("a step of the time an item is told where the input leaves a cache, and only there") {
  const auto stepped = [](double n) { return n * (n > 50'000 ? 2e-6 : 1e-6); };
  Record record = over_sizes({1'000, 10'000, 100'000, 1'000'000}, stepped, line(0, 1e-6));
  record.machine.topology.caches = {{1, 32u << 10, 2, 64}, {2, 1u << 20, 2, 64}};
  for (std::size_t p = 0; p < 4; ++p) {
    BlockFacts block;
    block.point = p;
    block.input_bytes = 16 * record.points[p].size;
    record.blocks.push_back(block);
  }
  const auto steps = cache_steps_of(analyse(record));
  REQUIRE(steps.size() == 1);
  CHECK(steps[0].level == 2);
  CHECK(steps[0].from_size == 10'000);
  CHECK(steps[0].ratio == Approx(2).epsilon(0.05));
  record.machine.topology.caches = {{1, 32u << 10, 2, 64}};
  CHECK(cache_steps_of(analyse(record)).empty());
}

TEST_CASE("weak scaling has an efficiency of its own: p times the work on p workers against one part on one") {
  Record record = test::record_of({});
  record.points.clear();
  for (const int p : {1, 2, 4}) {
    antcrew::StudyPoint point{static_cast<std::size_t>(1000 * p)};
    point.base_size = 1000;
    point.grown_for = p;
    record.points.push_back(point);
    for (const bool is_variant : {false, true}) {
      Cell cell = test::cell_with(is_variant ? "split" : "baseline", is_variant ? p : 1,
                                  std::vector<double>(8, is_variant ? 1 + 0.25 * (p - 1) : p));
      cell.point = record.points.size() - 1;
      record.cells.push_back(std::move(cell));
    }
  }
  const Analysed study = analyse(record);
  const auto weak = weak_scaling_of(study);
  REQUIRE(weak.size() == 2);
  CHECK(weak[0].efficiency.median == Approx(1 / 1.25));
  CHECK(weak[1].efficiency.median == Approx(1 / 1.75));
}

TEST_CASE("worth-it workers: the fewest that are not slower than the best by more than 5 %, beyond doubt") {
  Noise noise(5);
  const auto curve = [&](double two, double three, double four) {
    return test::record_of(
        {test::cell_with("baseline", 1, noise.around(10, 17)), test::cell_with("split", 1, noise.around(10, 17)),
         test::cell_with("split", 2, noise.around(two, 17)), test::cell_with("split", 3, noise.around(three, 17)),
         test::cell_with("split", 4, noise.around(four, 17))});
  };
  const auto workers = [](const Record& record) {
    const Analysed study = analyse(record);
    return worth_it(study, study.cells[1].curve)->of->cell->workers;
  };
  CHECK(workers(curve(5, 3.4, 2.6)) == 4);
  CHECK(workers(curve(2.6, 2.6, 2.6)) == 2);
  CHECK(workers(curve(5, 2.6, 2.75)) == 3);
}
