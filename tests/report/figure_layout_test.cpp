#include "antcrew/report/internal/figure_layout.hpp"

#include <doctest/doctest.h>

#include <algorithm>
#include <cmath>
#include <random>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/report/compared_figures.hpp"
#include "antcrew/report/internal/end_labels.hpp"
#include "antcrew/report/internal/figure_parts.hpp"
#include "antcrew/report/internal/text_width.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::contains;

namespace {

std::vector<double> about(double seconds, double noise, int rounds) {
  std::vector<double> times;
  for (int r = 0; r < rounds; ++r) times.push_back(seconds * (1 + noise * ((r * 5) % 7 - 3)));
  return times;
}

// noise: of each round, in thirds of a share; 0.15 is a disturbed machine.
Record study_of(const std::vector<std::string>& variants, const std::vector<int>& workers, double noise, int rounds) {
  std::vector<Cell> cells = {test::cell_with("baseline", 1, about(1, noise, rounds))};
  for (std::size_t v = 0; v < variants.size(); ++v) {
    for (const int w : workers)
      cells.push_back(
          test::cell_with(variants[v], w, about(1.0 / (w * (1 - 0.004 * static_cast<double>(v))), noise, rounds)));
  }
  Record record = test::record_of(std::move(cells));
  record.title =
      "Depth soundings of the whole outer bay, corrected for the tide and gridded at two metres, spring survey";
  return record;
}

const std::vector<std::string> long_names = {"split evenly, each part sorted and merged", "stolen",
                                             "a_name_without_any_blank_that_is_very_long_indeed", "in chunks of 256"};

void check_nothing_lies_on_another(const Figure& figure) {
  const internal::FigureLayout layout = internal::laid_out(figure);
  CAPTURE(figure.kind);
  REQUIRE(layout.panels.size() == figure.panels.size());
  for (const internal::PanelPlace& panel : layout.panels) {
    CHECK(panel.right - panel.left > 90);
    CHECK(panel.bottom - panel.top > 90);
  }
  for (std::size_t k = 0; k < layout.texts.size(); ++k) {
    const internal::TextBox box = internal::box_of(layout.texts[k]);
    CAPTURE(layout.texts[k].text);
    CHECK(box.left >= 0);
    CHECK(box.right <= layout.width);
    CHECK(box.top >= 0);
    CHECK(box.bottom <= layout.height);
    for (std::size_t other = k + 1; other < layout.texts.size(); ++other) {
      const internal::TextBox its = internal::box_of(layout.texts[other]);
      const bool apart = box.right <= its.left + 1 || its.right <= box.left + 1 || box.bottom <= its.top + 1 ||
                         its.bottom <= box.top + 1;
      CAPTURE(layout.texts[other].text);
      CHECK(apart);
    }
  }
}

}  // namespace

TEST_CASE(
    "no label of any figure is cut or covered: quiet and disturbed runs, many and long names, one to 64 workers") {
  std::vector<std::string> forty;
  for (int v = 0; v < 40; ++v) forty.push_back("variant number " + std::to_string(v));
  const std::vector<Record> records = {study_of(long_names, {1, 2, 4}, 0.001, 9),
                                       study_of(long_names, {1, 2, 4, 8, 16, 32, 64}, 0.15, 3),
                                       study_of(forty, {1, 2, 3, 4, 5, 6, 7}, 0.04, 7),
                                       study_of({"split"}, {2}, 0.01, 9),
                                       study_of(long_names, {2}, 0.1, 5),
                                       study_of(forty, {64}, 0.001, 9),
                                       study_of(long_names, {1, 48, 64}, 0.02, 9),
                                       study_of({"a"}, {1, 1000}, 0.02, 9)};
  for (const Record& record : records) {
    const Analysed study = analyse(record);
    const std::vector<Figure> figures = figures_of(study);
    CHECK(figures.size() >= 3);
    for (const Figure& figure : figures) check_nothing_lies_on_another(figure);
  }
  const Analysed before = analyse(records[0]);
  const Analysed after = analyse(records[1]);
  const auto both = side_by_side_figure(before, after, {"as released", "before-the-map-was-split"});
  REQUIRE(both);
  CHECK(both->panels[0].title == "before: as released");
  check_nothing_lies_on_another(*both);
}

TEST_CASE("nine panels: one legend below for all of them") {
  Record record = study_of(long_names, {1, 2, 4}, 0.01, 9);
  const std::vector<Cell> cells = record.cells;
  const Point first = record.points[0];
  record.points.clear();
  record.cells.clear();
  for (std::size_t p = 0; p < 9; ++p) {
    record.points.push_back(first);
    record.points.back().dimensions["distinct"] = static_cast<std::int64_t>(p) * 100;
    for (Cell cell : cells) {
      cell.point = p;
      record.cells.push_back(std::move(cell));
    }
  }
  const Analysed study = analyse(record);
  const auto figure = figure_of(study, "dimensions");
  REQUIRE(figure);
  CHECK(figure->panels.size() == 9);
  check_nothing_lies_on_another(*figure);
  const internal::FigureLayout layout = internal::laid_out(*figure);
  const auto named = std::count_if(layout.texts.begin(), layout.texts.end(),
                                   [](const internal::PlacedText& text) { return text.text == "stolen (ThreadCrew)"; });
  CHECK(named == 1);
}

TEST_CASE("lines keep every character, and none is wider than there is room") {
  std::mt19937 random(7);
  for (int k = 0; k < 500; ++k) {
    std::string text;
    for (int c = 0; c < 120; ++c) text += "abcWMil .,"[random() % 10];
    const double width = 60 + static_cast<double>(random() % 300);
    std::string kept;
    for (const std::string& line : internal::lines_within(text, width, 14)) {
      CHECK(internal::text_width(line) * 14 <= width);
      for (const char c : line) kept += c == ' ' ? "" : std::string(1, c);
    }
    text.erase(std::remove(text.begin(), text.end(), ' '), text.end());
    CHECK(kept == text);
  }
  const auto wide = internal::lines_within("漢字漢字漢字 é×–", 40, 14);
  CHECK(wide.size() >= 3);
  for (const std::string& line : wide) CHECK(internal::text_width(line) * 14 <= 40);
  CHECK(internal::lines_within("", 100, 14).size() == 1);
  CHECK(internal::lines_within("x", 0.001, 14) == std::vector<std::string>{"x"});
}

TEST_CASE("logarithmic axes: labels at 1, 2 and 5, two at least, and no empty decade beside the data") {
  std::mt19937 random(11);
  std::uniform_real_distribution<double> power(-9, 9);
  std::uniform_real_distribution<double> decades(0.001, 7);
  for (int k = 0; k < 5000; ++k) {
    const double low = std::pow(10, power(random));
    const double high = low * std::pow(10, decades(random));
    Axis axis;
    internal::fit_logarithmic(axis, low, high);
    CAPTURE(low);
    CAPTURE(high);
    CHECK(axis.from <= low);
    CHECK(axis.to >= high * 0.999);
    CHECK(axis.ticks.size() >= 2);
    CHECK(axis.ticks.size() <= 9);
    if (high / low > 3) {
      CHECK(axis.from >= low / 1.4);
      CHECK(axis.to <= high * 1.4);
    }
    for (const Tick& tick : axis.ticks) {
      const double digit = tick.at / std::pow(10, std::floor(std::log10(tick.at) + 1e-9));
      const double nearest = std::min({std::fabs(digit - 1), std::fabs(digit - 2), std::fabs(digit - 5)});
      CHECK(nearest < 1e-6);
    }
  }
}

TEST_CASE("points that cover each other stand beside each other, by less than half of what parts two worker counts") {
  const Record record = study_of({"a", "b", "c", "d"}, {1, 2, 4}, 0.01, 9);
  const Analysed study = analyse(record);
  const auto figure = figure_of(study, "speedup");
  REQUIRE(figure);
  const Panel& panel = figure->panels[0];
  for (std::size_t p = 0; p < 3; ++p) {
    std::vector<double> asides;
    for (const Series& series : panel.series) asides.push_back(series.points.at(p).aside);
    std::sort(asides.begin(), asides.end());
    for (std::size_t k = 1; k < asides.size(); ++k) CHECK(asides[k] > asides[k - 1]);
    const double gap = internal::share_on(panel.x, 2) - internal::share_on(panel.x, 1);
    CHECK(asides.back() - asides.front() < gap / 2);
    CHECK(std::fabs(asides.front() + asides.back()) < 1e-9);
  }
  // Alone, nothing moves.
  const Record one = study_of({"a"}, {1, 2, 4}, 0.01, 9);
  const Analysed alone = analyse(one);
  const auto by_itself = figure_of(alone, "speedup");
  for (const FigurePoint& point : by_itself->panels[0].series[0].points) CHECK(point.aside == 0);
}

TEST_CASE("one size and one worker count: bars of variants with their intervals, the fastest first") {
  const Record record = study_of({"slow", "quick"}, {2}, 0.001, 9);
  Record changed = record;
  for (Cell& cell : changed.cells) {
    if (cell.variant != "quick") continue;
    for (Trial& trial : cell.trials) trial.wall_s *= 0.8;
  }
  const Analysed study = analyse(changed);
  CHECK(telling_kind(study) == "variants");
  const auto figure = figure_of(study, "variants");
  REQUIRE(figure);
  REQUIRE(figure->panels[0].series.size() == 2);
  CHECK(contains(figure->title, "with 2 workers"));
  CHECK(contains(figure->panels[0].series[0].name, "quick"));
  CHECK(figure->panels[0].series[0].points[0].y == doctest::Approx(2.5).epsilon(0.02));
  CHECK(figure->panels[0].series[0].points[0].certainty == Certainty::interval);
  CHECK(figure->panels[0].series[0].colour != figure->panels[0].series[1].colour);
  CHECK(contains(figure->basis, "rounds"));
  CHECK(figure->study == changed.title);
}

TEST_CASE("what is too noisy or of too few rounds is drawn as such, and the caption says how") {
  const Record few = study_of({"a", "b"}, {1, 2}, 0.01, 3);
  const Analysed study = analyse(few);
  const auto figure = figure_of(study, "speedup");
  REQUIRE(figure);
  for (const Series& series : figure->panels[0].series) {
    for (const FigurePoint& point : series.points) CHECK(point.noisy);
  }
  CHECK(contains(figure->caption, "Hollow"));
  const Record enough = study_of({"a", "b"}, {1, 2}, 0.001, 9);
  const Analysed quiet = analyse(enough);
  CHECK_FALSE(contains(figure_of(quiet, "speedup")->caption, "Hollow"));
}
