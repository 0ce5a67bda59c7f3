// What the makers of figures share: axes with places to label, points with bounds, who has which colour.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "antcrew/report/figure.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

// "1 ms", "20 µs": no more digits than it has.
std::string short_duration(double seconds);
// "1k", "20M", "1.5k", as sizes are given on the command line.
std::string short_count(double count);
// "64 MiB"
std::string short_bytes(double bytes);

// Sets from, to and ticks so that `low … high` lies inside; by the unit: "s", "B", "%", "×", or a plain number.
// with_zero: the axis begins at 0.
void fit_axis(Axis& axis, double low, double high, bool with_zero = true);
// The same with labels at 1, 2 and 5 times powers of ten, or at powers of ten alone where these are too many.
void fit_logarithmic(Axis& axis, double low, double high);
// One label for each of the values, as many as there is room for.
void fit_values(Axis& axis, std::vector<double> values, bool logarithmic);
// Categories 0, 1, …, a label each.
Axis categories(std::string label, const std::vector<std::string>& names);

FigurePoint point_of(double x, const Estimate& estimate, std::ptrdiff_t cell, std::string text);
FigurePoint exact_point(double x, double y, std::ptrdiff_t cell, std::string text);

// Places of a cell in the study.
std::ptrdiff_t place_of(const Analysed& study, const CellFigures& cell);

// What curves are drawn at a point: variants with figures, the fastest first, at most `most_curves`; `left_out` says
// what is not drawn and why.
struct DrawnCurves {
  std::vector<std::size_t> curves;  // in Analysed::curves
  std::string left_out;
};
inline constexpr std::size_t most_curves = 8;
DrawnCurves drawn_curves(const Analysed& study, std::size_t point);

// Each drawn variant at its fastest worker count of the headline's point: who would take it takes that one.
std::vector<const CellFigures*> leaders(const Analysed& study);

// A variant has the same colour in every figure: its number among all variants of the study.
int colour_of(const Analysed& study, const Cell& cell);

// "4 workers"
std::string workers_text(int workers);
// "split evenly (ThreadCrew)", cut to what a legend has room for.
std::string curve_name(const Cell& cell);
// "split evenly, 4 workers"; with its crew where another variant has the same name.
std::string bar_name(const Analysed& study, const Cell& cell);

// Whether its figures mean what they say, if with little certainty.
bool drawable(const CellFigures& cell);

// Moves points of lines a little aside where their signs or bounds would cover each other.
void set_aside(Panel& panel);
// What every figure has besides: what it rests on, which points are noisy, what lies where another does.
void finish(Figure& figure, const Analysed& study, const std::string& basis);

// Where there is none, the figure is not made.
using MaybeFigure = std::optional<Figure>;
MaybeFigure speedup_figure(const Analysed& study);
MaybeFigure efficiency_figure(const Analysed& study);
MaybeFigure dimensions_figure(const Analysed& study);
MaybeFigure roofline_figure(const Analysed& study);
MaybeFigure memory_figure(const Analysed& study);
MaybeFigure time_figure(const Analysed& study);
MaybeFigure speedup_over_size_figure(const Analysed& study);
MaybeFigure ledger_figure(const Analysed& study);
MaybeFigure ledger_shares_figure(const Analysed& study);
MaybeFigure phases_figure(const Analysed& study);
MaybeFigure timeline_figure(const Analysed& study);
MaybeFigure messages_figure(const Analysed& study);
MaybeFigure ladder_figure(const Analysed& study);
MaybeFigure variants_figure(const Analysed& study);
MaybeFigure trials_figure(const Analysed& study);

}  // namespace antcrew::internal
