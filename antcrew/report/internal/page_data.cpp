#include "antcrew/report/internal/page_data.hpp"

#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/report/csv.hpp"
#include "antcrew/report/figure.hpp"
#include "antcrew/report/internal/cell_texts.hpp"
#include "antcrew/report/internal/end_labels.hpp"
#include "antcrew/report/internal/figure_parts.hpp"
#include "antcrew/report/palette.hpp"

namespace antcrew::internal {

std::vector<GridColumn> page_columns(const StudyView& view) {
  std::vector<GridColumn> columns = cell_columns();
  if (view.points.size() > 1) columns.insert(columns.end() - 1, {"at"});
  return columns;
}

bool is_number(const GridColumn& column) {
  return column.right || column.head == "speedup";
}

namespace {

// Inside a script element only its end could end it: no '<' is left, and none of the two line ends of JavaScript alone.
std::string embedded(const Json& json) {
  std::string out;
  for (const char c : json.dump(-1, true)) {
    if (c == '<')
      out += "\\u003c";
    else if (c == '>')
      out += "\\u003e";
    else if (c == '&')
      out += "\\u0026";
    else
      out += c;
  }
  return out;
}

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
    const bool aside = p.aside != 0;
    const double x = aside ? value_at(panel.x, share_on(panel.x, p.x) + p.aside) : p.x;
    Json point = {{"x", aside ? shortened(x) : x}, {"y", shortened(p.y)}};
    if (p.noisy) point["noisy"] = true;
    if (p.certainty != Certainty::exact) {
      point["low"] = shortened(p.low);
      point["high"] = shortened(p.high);
    }
    point["certainty"] = name_of(p.certainty);
    point["cell"] = p.cell;
    point["text"] = p.text;
    const auto place = static_cast<std::size_t>(p.x);
    if (series.kind == Series::Kind::steps && place < panel.y.ticks.size())
      point["words"] = panel.y.ticks[place].text + (p.text.empty() ? "" : ": " + p.text);
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
  if (lines) {
    for (const EndLabel& end : end_labels(panel))
      ends.push_back({{"text", end.text},
                      {"colour", end.colour},
                      {"at", shortened(end.at)},
                      {"reference", end.reference},
                      {"marker", static_cast<int>(look_of(end.colour).marker)},
                      {"dash", static_cast<int>(look_of(end.colour).dash)}});
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

Json figure_json(const Figure& figure) {
  Json panels = Json::array();
  for (const Panel& panel : figure.panels) panels.push_back(panel_json(panel));
  return {{"kind", figure.kind},
          {"title", figure.title},
          {"caption", figure.caption},
          {"panels", std::move(panels)},
          {"table", {{"heads", figure.table.heads}, {"rows", figure.table.rows}}}};
}

// What a column sorts by: the number behind the text.
Json sort_keys(const StudyView& view, const CellView& cell) {
  const CellFigures& f = *cell.numbers;
  const std::vector<std::string> texts = fitted_texts(cell);
  const auto median_of = [](const std::optional<Estimate>& e) { return e ? Json(e->median) : Json(nullptr); };
  const bool baseline = f.cell->kind == Cell::Kind::baseline;
  Json keys =
      Json::array({texts[0], texts[1], f.cell->workers, median_of(cell.fitting_time_s ? cell.fitting_time_s : f.time_s),
                   texts[4], baseline ? Json(nullptr) : median_of(f.speedup),
                   baseline ? Json(nullptr) : Json(f.efficiency), f.overhead_s, f.busy_processors, f.peak_bytes});
  if (view.points.size() > 1) keys.push_back(view.study.record->points[f.cell->point].size);
  keys.push_back(texts[10]);
  return keys;
}

// What the table is sorted and filtered by, and what each cell is called elsewhere.
Json cells_json(const StudyView& view) {
  Json columns = Json::array();
  for (const GridColumn& column : page_columns(view))
    columns.push_back({{"head", column.head}, {"number", is_number(column)}});
  Json rows = Json::array();
  for (const CellView& cell : view.cells) {
    const CellFigures& f = *cell.numbers;
    Json keys = sort_keys(view, cell);
    rows.push_back({{"name", bar_name(view.study, *f.cell)},
                    {"point", cell.at},
                    {"verdict", name_of(f.verdict)},
                    {"keys", std::move(keys)}});
  }
  return {{"columns", std::move(columns)}, {"rows", std::move(rows)}};
}

Json trials_json(const Analysed& study) {
  const Rows rows = trial_rows_by_cell(study);
  return {{"columns", rows.heads}, {"rows", rows.rows}};
}

Json looks_json() {
  Json colours = Json::array();
  for (const Colour& colour : palette) colours.push_back({colour.light, colour.dark});
  return {{"palette", std::move(colours)}, {"grey", {grey.light, grey.dark}}};
}

}  // namespace

std::string page_data(const StudyView& view, std::size_t most_bytes, bool& with_trials) {
  Json data = {{"title", view.study.record->title}, {"headline", view.sentence}, {"telling", telling_kind(view.study)}};
  data["looks"] = looks_json();
  data["cells"] = cells_json(view);
  Json figures = Json::array();
  for (const Figure& figure : figures_of(view.study)) figures.push_back(figure_json(figure));
  data["figures"] = std::move(figures);
  data["cells_csv"] = csv_text(cell_rows({{"", &view.study}}));
  std::string text = embedded(data);
  const std::string trials = embedded(trials_json(view.study));
  with_trials = text.size() + trials.size() < most_bytes;
  if (with_trials) {
    text.pop_back();
    text += ",\"trials\":" + trials + "}";
  }
  return text;
}

std::string history_data(const std::string& title, const std::string& sentence,
                         const std::vector<PlacedFigure>& figures) {
  Json data = {{"title", title}, {"headline", sentence}, {"looks", looks_json()}};
  Json drawn = Json::array();
  for (const PlacedFigure& placed : figures) {
    Json figure = figure_json(placed.figure);
    figure["into"] = placed.into;
    drawn.push_back(std::move(figure));
  }
  data["figures"] = std::move(drawn);
  return embedded(data);
}

}  // namespace antcrew::internal
