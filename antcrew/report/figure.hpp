// A figure as data: what is drawn, before anybody decides how. Two renderers draw it: files and the page.
//
//   for (const Figure& figure : figures_of(study)) draw(figure);
//   if (auto figure = figure_of(study, "speedup")) draw(*figure);
//
// Everything that a reader could take from the picture stands in it as numbers with units, and its table says the same
// in text. Pure; any thread may call these.
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

struct Tick {
  double at = 0;
  std::string text;
};

struct Axis {
  std::string label;
  std::string unit;  // "s", "B", "%"; empty = a plain number
  bool logarithmic = false;
  bool reversed = false;  // the first of its categories at the top
  double from = 0;
  double to = 1;
  std::vector<Tick> ticks = {};  // the places that are labelled, ascending
};

// How sure a value is. The three look different.
enum class Certainty {
  exact,     // counted, or a sum: no bounds
  interval,  // low … high is a 95 % interval
  range      // low … high is only what was seen
};

struct FigurePoint {
  double x = 0;
  double y = 0;
  double low = 0;  // of y; the same as y where it is exact
  double high = 0;
  Certainty certainty = Certainty::exact;
  std::ptrdiff_t cell = -1;  // its place in Analysed::cells; -1 = of no single cell
  std::string text = {};     // what it is, with its bounds, in words
  double aside = 0;          // drawn so much beside x, a share of the axis: others lie at the same place
  bool noisy = false;        // too noisy, or of too few rounds, to rest anything on
};

struct Series {
  enum class Kind {
    line,   // points joined, with their bounds
    dots,   // points alone
    steps,  // bars from the axis to y, with their bounds, over category x
    bars    // pieces of bars: y over category x, stacked in the order of the series
  };
  std::string name;
  Kind kind = Kind::line;
  int colour = 0;  // which of the palette, -1 = grey; the same thing has the same one in all figures of a study
  std::vector<FigurePoint> points = {};
};

// What the values are to be read against: the ideal, a ceiling, a fit beyond what was measured.
struct ReferenceLine {
  std::string name;
  std::vector<std::pair<double, double>> points = {};  // x, y
  std::vector<std::pair<double, double>> bounds = {};  // low, high for each point; empty = none
};

// A place on the x axis that means something: the physical cores, a cache level, a crossover.
struct AxisMark {
  double at = 0;
  std::string text;
};

// A stretch of a flat band, for what a worker did when.
struct Band {
  int lane = 0;  // a category of the y axis
  double from = 0;
  double to = 0;
  int kind = 0;  // in Panel::band_kinds
  std::string text = {};
};

struct BandKind {
  std::string name;
  int colour = 0;
};

struct Panel {
  std::string title;
  Axis x;
  Axis y;
  std::vector<Series> series = {};
  std::vector<ReferenceLine> references = {};
  std::vector<AxisMark> marks = {};
  std::vector<Band> bands = {};
  std::vector<BandKind> band_kinds = {};
};

struct FigureTable {
  std::vector<std::string> heads = {};
  std::vector<std::vector<std::string>> rows = {};
};

struct Figure {
  std::string kind;          // "speedup", …: what --as figure:KIND takes
  std::string title;         // what it shows, in a few words
  std::string caption = {};  // how to read it, and what it rests on, in one or two sentences
  std::vector<Panel> panels = {};
  FigureTable table = {};
  std::string study = {};  // its title
  std::string basis = {};  // rounds, noise, machine and date, for whoever sees the figure alone
};

// The kinds there are, in the order in which they are shown.
const std::vector<std::string>& figure_kinds();

// None when this record has nothing to show of the kind. Throws Error (report.figure) when there is no such kind.
std::optional<Figure> figure_of(const Analysed& study, const std::string& kind);

// All that have something to show, in order.
std::vector<Figure> figures_of(const Analysed& study);

// The one that says most for this record.
std::string telling_kind(const Analysed& study);

}  // namespace antcrew::report_layer
