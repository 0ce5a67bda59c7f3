#include "antcrew/report/figure.hpp"

#include <doctest/doctest.h>

#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/ledger.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/report/figure_script.hpp"
#include "antcrew/report/internal/figure_parts.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::contains;

namespace {

std::vector<double> about(double seconds, int rounds = 9) {
  std::vector<double> times;
  for (int r = 0; r < rounds; ++r) times.push_back(seconds * (1 + 0.004 * ((r * 5) % 7 - 3)));
  return times;
}

// Speedups 1, 2, 3 with 1, 2, 4 workers, and a second variant that is wrong.
Record curve(int rounds = 9) {
  std::vector<Cell> cells = {test::cell_with("baseline", 1, about(1.2, rounds))};
  for (const auto& [workers, seconds] : {std::pair{1, 1.2}, {2, 0.6}, {4, 0.4}})
    cells.push_back(test::cell_with("split", workers, about(seconds, rounds)));
  cells.push_back(test::cell_with("hasty", 4, about(0.1, rounds)));
  cells.back().faults.push_back({Fault::Kind::wrong_answer, 1, "7 instead of 8"});
  return test::record_of(std::move(cells));
}

const FigurePoint* point_at(const Series& series, double x) {
  const auto found =
      std::find_if(series.points.begin(), series.points.end(), [&](const FigurePoint& p) { return p.x == x; });
  return found == series.points.end() ? nullptr : &*found;
}

Figure must(const std::optional<Figure>& figure) {
  REQUIRE(figure.has_value());
  return *figure;
}

}  // namespace

TEST_CASE(
    "speedup over workers: medians with their bounds, the ideal line, the processors; what is wrong is not drawn") {
  const Record record = curve();
  const Analysed study = analyse(record);
  const Figure figure = must(figure_of(study, "speedup"));
  REQUIRE(figure.panels.size() == 1);
  const Panel& panel = figure.panels[0];
  REQUIRE(panel.series.size() == 1);
  const FigurePoint* at_4 = point_at(panel.series[0], 4);
  REQUIRE(at_4 != nullptr);
  CHECK(at_4->y == doctest::Approx(3).epsilon(0.01));
  CHECK(at_4->certainty == Certainty::interval);
  CHECK(at_4->low <= at_4->y);
  CHECK(at_4->high >= at_4->y);
  CHECK(study.cells[static_cast<std::size_t>(at_4->cell)].cell->workers == 4);
  CHECK(contains(at_4->text, "split (ThreadCrew), 4 workers: speedup 3.0"));
  CHECK(contains(figure.caption, "Not drawn: hasty (ThreadCrew) (wrong answer)"));
  const ReferenceLine& ideal = panel.references.back();
  for (const auto& [x, y] : ideal.points) CHECK(x == y);
  // Every value lies on the axes, and the axes' labels as well.
  for (const Axis* axis : {&panel.x, &panel.y}) {
    CHECK(axis->ticks.size() >= 2);
    for (const Tick& tick : axis->ticks) CHECK((tick.at >= axis->from && tick.at <= axis->to));
  }
  CHECK(at_4->y <= panel.y.to);
  REQUIRE(figure.table.rows.size() == 3);
  CHECK(contains(figure.table.rows[2][1], "3.0"));
}

TEST_CASE("too few rounds are drawn as what was seen, and told so") {
  const Record record = curve(3);
  const Figure figure = must(figure_of(analyse(record), "speedup"));
  for (const FigurePoint& p : figure.panels[0].series[0].points) CHECK(p.certainty == Certainty::range);
  CHECK(contains(figure.caption, "too few rounds"));
}

TEST_CASE("forty variants: the eight fastest are drawn, with colours that stay theirs in every figure") {
  std::vector<Cell> cells = {test::cell_with("baseline", 1, about(1))};
  for (int v = 0; v < 40; ++v) {
    for (const int workers : {1, 2})
      cells.push_back(test::cell_with("variant " + std::to_string(v), workers, about(1.0 / (1 + 0.05 * v) / workers)));
  }
  const Record record = test::record_of(std::move(cells));
  const Analysed study = analyse(record);
  const Figure speedup = must(figure_of(study, "speedup"));
  CHECK(speedup.panels[0].series.size() == 8);
  CHECK(contains(speedup.caption, "The 8 fastest of 40 variants are drawn."));
  CHECK(contains(speedup.panels[0].series[0].name, "variant 39"));
  CHECK(speedup.panels[0].series[0].colour == 39);
  const Figure efficiency = must(figure_of(study, "efficiency"));
  for (std::size_t s = 0; s < 8; ++s)
    CHECK(efficiency.panels[0].series[s].colour == speedup.panels[0].series[s].colour);
}

TEST_CASE(
    "odd studies: nothing measured, all faulty, one cell, one count: what can be drawn is, and the rest is none") {
  const Record empty = test::record_of({});
  CHECK(figures_of(analyse(empty)).empty());
  Record faulty = curve();
  for (Cell& cell : faulty.cells) {
    if (cell.kind == Cell::Kind::variant) cell.faults = {{Fault::Kind::crashed, 1, "signal 11"}};
  }
  const Analysed all_faulty = analyse(faulty);
  CHECK_FALSE(figure_of(all_faulty, "speedup"));
  CHECK(figure_of(all_faulty, "trials"));  // the baseline's
  const Record one =
      test::record_of({test::cell_with("baseline", 1, about(1)), test::cell_with("split", 2, about(0.5))});
  const Analysed study = analyse(one);
  const Figure figure = must(figure_of(study, "speedup"));
  CHECK(figure.panels[0].x.from < 2);
  CHECK(figure.panels[0].x.to > 2);
  CHECK_FALSE(figure_of(study, "time"));  // one size
  CHECK_THROWS_AS(figure_of(study, "pie"), Error);
}

TEST_CASE("sizes over nine decades and times from nanoseconds to hours have axes with few and readable labels") {
  Record record = test::record_of({});
  record.points.clear();
  std::size_t size = 1;
  double seconds = 5e-9;
  for (std::size_t p = 0; p < 10; ++p, size *= 10, seconds *= 12) {
    record.points.push_back(StudyPoint{size});
    for (const auto& [name, factor] : {std::pair<const char*, double>{"baseline", 1}, {"split", p < 4 ? 3 : 0.5}}) {
      record.cells.push_back(test::cell_with(name, name == std::string("baseline") ? 1 : 2, about(seconds * factor)));
      record.cells.back().point = p;
    }
  }
  const Analysed study = analyse(record);
  const Figure time = must(figure_of(study, "time"));
  const Panel& panel = time.panels[0];
  CHECK(panel.x.logarithmic);
  CHECK(panel.y.logarithmic);
  CHECK(panel.x.ticks.size() <= 10);
  CHECK(panel.y.ticks.size() <= 10);
  CHECK(panel.series[0].colour == -1);  // the baseline
  for (const Series& series : panel.series) CHECK(series.points.size() == 10);
  CHECK(panel.y.from <= 5e-9 * 0.99);
  CHECK(panel.y.to >= 5e-9 * std::pow(12, 9));
  const Figure speedup = must(figure_of(study, "speedup-over-size"));
  CHECK(speedup.panels[0].references[0].points[0].second == 1);
}

TEST_CASE("a ledger's bar adds up to workers × time, and its shares to all of it") {
  Record record = curve();
  internal::LaneSums sums;
  sums.wall_s = 0.4;
  sums.lanes = 4;
  sums.parts_s[LaneState::running] = 1.1;
  sums.parts_s[LaneState::imbalance] = 0.3;
  sums.parts_s[LaneState::dispatch] = 0.2;
  sums.cpu_frames_s = sums.cpu_tree_s = 1.1;
  sums.slowdown = 0.01;
  record.cells[3].metered = {sums, sums, sums};
  const Analysed study = analyse(record);
  for (const auto& [kind, whole] : {std::pair<const char*, double>{"ledger", 1.6}, {"ledger-shares", 100}}) {
    const Figure figure = must(figure_of(study, kind));
    double sum = 0;
    for (const Series& series : figure.panels[0].series) {
      REQUIRE(series.kind == Series::Kind::bars);
      for (const FigurePoint& p : series.points) sum += p.y;
    }
    CHECK(sum == doctest::Approx(whole));
    CHECK(figure.panels[0].x.to >= whole);
  }
}

TEST_CASE("every trial is drawn where it was timed") {
  Record record = curve();
  double at = 5;
  for (Cell& cell : record.cells) {
    for (Trial& trial : cell.trials) trial.start_s = at += 2;
  }
  const Figure figure = must(figure_of(analyse(record), "trials"));
  std::size_t dots = 0;
  for (const Series& series : figure.panels[0].series) dots += series.points.size();
  CHECK(dots == 18);  // the baseline's and those of four workers
  CHECK(figure.panels[0].series[0].points[0].x == 7);
}

TEST_CASE("what a study says never becomes a plotter's command") {
  Record record = curve();
  const std::string hostile = "a'`touch /tmp/never`'; !reboot # \"x\" %s %d {/Symbol a}\nset output";
  for (Cell& cell : record.cells) {
    if (cell.variant == "split") cell.variant = hostile;
  }
  record.title = hostile;
  const Figure figure = must(figure_of(analyse(record), "speedup"));
  const FigureScript script = figure_script(figure, "svg", "/tmp/data", "/tmp/image");
  // Taken apart as the plotter does: quotes open and close, two of them inside are one.
  bool inside = false;
  for (std::size_t k = 0; k < script.commands.size(); ++k) {
    const char c = script.commands[k];
    if (c == '\'') inside = !inside;
    if (c == '\n') CHECK_FALSE(inside);
    if (c == '`' || c == '!' || c == '"' || c == '#') CHECK(inside);
  }
  CHECK(script.commands.find("enhanced") == script.commands.find("noenhanced") + 2);
  CHECK(script.data.find_first_not_of("0123456789.e+- \nna") == std::string::npos);
  const FigureScript again = figure_script(figure, "svg", "/tmp/data", "/tmp/image");
  CHECK(again.commands == script.commands);
  CHECK(again.data == script.data);
}
