// Figures of several runs, as data: the same axes and colours for both sides, and one cell followed through all runs.
#include "antcrew/report/compared_figures.hpp"
#include "antcrew/analysis/analysed.hpp"

#include <doctest/doctest.h>

#include <memory>

#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::contains;

namespace {

std::vector<double> close_to(double seconds) {
  std::vector<double> times;
  for (int r = 0; r < 9; ++r) times.push_back(seconds * (1 + 0.004 * ((r * 5) % 7 - 3)));
  return times;
}

// Variants of so many workers each, at the given speedups.
Record with(const std::vector<std::tuple<const char*, int, double>>& cells, const std::string& created) {
  std::vector<Cell> all = {test::cell_with("baseline", 1, close_to(1.2))};
  for (const auto& [name, workers, speedup] : cells)
    all.push_back(test::cell_with(name, workers, close_to(1.2 / speedup)));
  Record record = test::record_of(std::move(all));
  record.created = created;
  return record;
}

struct Runs {
  std::vector<std::unique_ptr<Record>> records;
  std::vector<std::unique_ptr<Analysed>> studies;
  std::vector<const Analysed*> all;
  void add(Record record) {
    records.push_back(std::make_unique<Record>(std::move(record)));
    studies.push_back(std::make_unique<Analysed>(analyse(*records.back())));
    all.push_back(studies.back().get());
  }
};

}  // namespace

TEST_CASE("two runs side by side: same scales, a variant has one colour in both, and only the ideal is drawn beside") {
  Runs runs;
  runs.add(with({{"split", 1, 1}, {"split", 2, 1.8}, {"stolen", 1, 0.9}, {"stolen", 2, 1.7}}, "2026-11-20T08:00:00Z"));
  runs.add(with({{"stolen", 1, 1}, {"stolen", 2, 1.9}, {"stolen", 4, 3.5}}, "2026-11-27T08:00:00Z"));
  const auto figure = side_by_side_figure(*runs.all[0], *runs.all[1]);
  REQUIRE(figure);
  REQUIRE(figure->panels.size() == 2);
  const Panel& before = figure->panels[0];
  const Panel& after = figure->panels[1];
  CHECK(before.x.to == after.x.to);
  CHECK(before.y.to == after.y.to);
  CHECK(before.y.to >= 3.5);
  CHECK(before.references.size() == 1);
  REQUIRE(before.series.size() == 2);
  REQUIRE(after.series.size() == 1);
  for (const Series& series : before.series)
    CHECK((series.name == after.series[0].name) == (series.colour == after.series[0].colour));
  CHECK(contains(before.title, "2026-11-20 08:00"));
  CHECK(figure->table.rows.size() == 7);
}

TEST_CASE("two machines are told by their processors") {
  Runs runs;
  runs.add(with({{"split", 1, 1}, {"split", 2, 1.8}}, "2026-11-20T08:00:00Z"));
  Record larger = with({{"split", 1, 1}, {"split", 2, 1.9}, {"split", 64, 40}}, "2026-11-27T08:00:00Z");
  larger.machine.processor = "Estuary 9000";
  larger.machine.limits.online_processors = larger.machine.limits.affinity_processors = 64;
  runs.add(std::move(larger));
  const auto figure = side_by_side_figure(*runs.all[0], *runs.all[1]);
  REQUIRE(figure);
  CHECK(contains(figure->title, "two machines"));
  CHECK(contains(figure->panels[1].title, "Estuary 9000, 64 processors"));
  // 2 workers alone would be drawn on another scale than 64.
  for (auto axis : {&Panel::x, &Panel::y}) {
    const Axis& small = figure->panels[0].*axis;
    const Axis& large = figure->panels[1].*axis;
    CHECK(small.logarithmic);
    CHECK(large.logarithmic);
    CHECK(small.from == large.from);
    CHECK(small.to == large.to);
    CHECK(small.ticks.size() == large.ticks.size());
  }
}

TEST_CASE("a history follows the newest run's best through all runs, and says where a run has no figures of it") {
  Runs runs;
  runs.add(with({{"split", 2, 1.8}, {"stolen", 2, 1.5}}, "2026-11-20T08:00:00Z"));
  Record wrong = with({{"split", 2, 1.8}}, "2026-11-21T08:00:00Z");
  wrong.cells[1].faults.push_back({Fault::Kind::wrong_answer, 1, "7 instead of 8"});
  runs.add(std::move(wrong));
  runs.add(with({{"stolen", 2, 1.6}}, "2026-11-22T08:00:00Z"));
  runs.add(with({{"split", 2, 1.9}, {"stolen", 2, 1.6}}, "2026-11-23T08:00:00Z"));
  const auto figure = history_figure(runs.all);
  REQUIRE(figure);
  const Series& series = figure->panels[0].series[0];
  REQUIRE(series.points.size() == 2);
  CHECK(series.points[0].x == 0);
  CHECK(series.points[1].x == 3);
  CHECK(series.points[1].y == doctest::Approx(1.9).epsilon(0.02));
  REQUIRE(figure->table.rows.size() == 4);
  CHECK(figure->table.rows[1][1] == "wrong answer");
  CHECK(figure->table.rows[2][1] == "not tried");
  REQUIRE(history_figure(runs.all, "stolen"));
  CHECK(history_figure(runs.all, "stolen")->panels[0].series[0].points.size() == 3);
  CHECK_FALSE(history_figure(runs.all, "no such"));
  CHECK_FALSE(history_figure({runs.all[0]}));
}

TEST_CASE("many runs: places for all of them, names for as many as fit") {
  Runs runs;
  for (int k = 0; k < 40; ++k)
    runs.add(with({{"split", 2, 1.8}},
                  "2026-10-" + std::string(k < 9 ? "0" : "") + std::to_string(k % 28 + 1) + "T08:00:00Z"));
  const auto figure = history_figure(runs.all);
  REQUIRE(figure);
  CHECK(figure->panels[0].series[0].points.size() == 40);
  CHECK(figure->panels[0].x.ticks.size() <= 8);
  CHECK(figure->panels[0].x.ticks.back().at == 39);
}
