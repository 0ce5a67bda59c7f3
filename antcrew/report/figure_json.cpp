#include "antcrew/report/figure_json.hpp"

#include <cmath>

#include "antcrew/record/json.hpp"
#include "antcrew/report/internal/end_labels.hpp"
#include "antcrew/report/palette.hpp"

namespace antcrew::report_layer {
namespace {

// As many digits as a reader or a screen could tell apart.
double shortened(double value) {
  if (value == 0 || !std::isfinite(value)) return value;
  const double scale = std::pow(10, 6 - std::ceil(std::log10(std::fabs(value))));
  return std::round(value * scale) / scale;
}

Json axis_json(const Axis& axis) {
  Json ticks = Json::array();
  for (const Tick& tick : axis.ticks) ticks.push_back({{"at", tick.at}, {"text", tick.text}});
  return {{"label", axis.label}, {"unit", axis.unit}, {"logarithmic", axis.logarithmic}, {"reversed", axis.reversed},
          {"from", axis.from},   {"to", axis.to},     {"ticks", std::move(ticks)}};
}

const char* name_of(Certainty certainty) {
  return certainty == Certainty::exact ? "exact" : certainty == Certainty::interval ? "interval" : "range";
}

Json series_json(const Series& series, const Panel& panel) {
  constexpr const char* kinds[] = {"line", "dots", "steps", "bars"};
  const SeriesLook look = look_of(series.colour);
  Json points = Json::array();
  for (const FigurePoint& p : series.points) {
    Json point = {{"x", p.x}, {"y", shortened(p.y)}};
    if (p.certainty != Certainty::exact) {
      point["low"] = shortened(p.low);
      point["high"] = shortened(p.high);
    }
    point["certainty"] = name_of(p.certainty);
    point["cell"] = p.cell;
    point["text"] = p.text;
    const auto place = static_cast<std::size_t>(p.x);
    if (series.kind == Series::Kind::steps && place < panel.x.ticks.size())
      point["words"] = panel.x.ticks[place].text + (p.text.empty() ? "" : ": " + p.text);
    points.push_back(std::move(point));
  }
  return {{"name", series.name},
          {"kind", kinds[static_cast<std::size_t>(series.kind)]},
          {"colour", series.colour},
          {"marker", static_cast<int>(look.marker)},
          {"dash", static_cast<int>(look.dash)},
          {"points", std::move(points)}};
}

Json references_json(const Panel& panel) {
  Json references = Json::array();
  for (const ReferenceLine& line : panel.references) {
    Json points = Json::array();
    Json bounds = Json::array();
    for (const auto& [x, y] : line.points) points.push_back({shortened(x), shortened(y)});
    for (const auto& [low, high] : line.bounds) bounds.push_back({shortened(low), shortened(high)});
    references.push_back({{"name", line.name}, {"points", std::move(points)}, {"bounds", std::move(bounds)}});
  }
  return references;
}

Json panel_json(const Panel& panel) {
  Json series = Json::array();
  for (const Series& one : panel.series) series.push_back(series_json(one, panel));
  Json marks = Json::array();
  for (const AxisMark& mark : panel.marks) marks.push_back({{"at", shortened(mark.at)}, {"text", mark.text}});
  Json bands = Json::array();
  for (const Band& band : panel.bands)
    bands.push_back({{"lane", band.lane},
                     {"from", shortened(band.from)},
                     {"to", shortened(band.to)},
                     {"kind", band.kind},
                     {"text", band.text}});
  Json kinds = Json::array();
  for (const BandKind& kind : panel.band_kinds) kinds.push_back({{"name", kind.name}, {"colour", kind.colour}});
  Json ends = Json::array();
  const bool lines = !panel.series.empty() && (panel.series.front().kind == Series::Kind::line ||
                                               panel.series.front().kind == Series::Kind::dots);
  constexpr double apart = 0.065;
  if (lines) {
    for (const internal::EndLabel& end : internal::end_labels(panel, apart))
      ends.push_back({{"text", end.text}, {"colour", end.colour}, {"at", shortened(end.at)}});
  }
  return {{"title", panel.title},
          {"x", axis_json(panel.x)},
          {"y", axis_json(panel.y)},
          {"series", std::move(series)},
          {"references", references_json(panel)},
          {"marks", std::move(marks)},
          {"bands", std::move(bands)},
          {"bandKinds", std::move(kinds)},
          {"ends", std::move(ends)}};
}

}  // namespace

Json figure_json(const Figure& figure) {
  Json panels = Json::array();
  for (const Panel& panel : figure.panels) panels.push_back(panel_json(panel));
  return {{"kind", figure.kind},
          {"title", figure.title},
          {"caption", figure.caption},
          {"panels", std::move(panels)},
          {"table", {{"heads", figure.table.heads}, {"rows", figure.table.rows}}}};
}

}  // namespace antcrew::report_layer
