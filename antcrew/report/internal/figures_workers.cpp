// Figures over the number of workers.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/models.hpp"
#include "antcrew/analysis/rank_hosts.hpp"
#include "antcrew/analysis/sizes.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/internal/figure_parts.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::internal {
namespace {

std::vector<double> worker_counts(const Analysed& study, const std::vector<std::size_t>& curves) {
  std::vector<double> counts;
  for (const std::size_t c : curves) {
    for (const std::size_t k : study.curves[c]) counts.push_back(study.cells[k].cell->workers);
  }
  std::sort(counts.begin(), counts.end());
  return counts;
}

Axis workers_axis(const Analysed& study, const std::vector<std::size_t>& curves) {
  Axis axis{"workers", ""};
  const std::vector<double> counts = worker_counts(study, curves);
  fit_values(axis, counts, counts.back() >= 16 * counts.front());
  return axis;
}

// Widened so that what lies beyond the measured counts has room.
void widen(Axis& axis, double to) {
  if (to <= axis.to) return;
  axis.to = to * 1.05;
  axis.ticks.push_back({to, fmt::format("{:g}", to)});
}

// Where ranks go on to a further host: of the cell that has most of them, as far as they lie host by host.
bool mark_hosts(const Analysed& study, Panel& panel) {
  const RankFacts* most = nullptr;
  for (const CellFigures& cell : study.cells) {
    const RankFacts* ranks = cell.cell->point == study.conclusion.point ? ranks_of(*cell.cell) : nullptr;
    if (ranks != nullptr && (most == nullptr || ranks->host_of.size() > most->host_of.size())) most = ranks;
  }
  if (most == nullptr || most->hosts.size() < 2) return false;
  for (std::size_t rank = 1; rank < most->host_of.size(); ++rank) {
    const int before = most->host_of[rank - 1];
    if (most->host_of[rank] == before) continue;
    if (most->host_of[rank] < before) break;  // back to an earlier one
    panel.marks.push_back(
        {static_cast<double>(rank), printable(most->hosts[static_cast<std::size_t>(before)], 30) + " is full"});
  }
  return true;
}

void mark_processors(const Analysed& study, Panel& panel) {
  const Machine& machine = study.record->machine;
  const int cores = machine.topology.physical_cores;
  const int usable = machine.usable_processors();
  const auto add = [&](int at, std::string text) {
    if (at > panel.x.from && at < panel.x.to) panel.marks.push_back({static_cast<double>(at), std::move(text)});
  };
  if (mark_hosts(study, panel)) return;
  if (cores == usable) return add(cores, fmt::format("{} processors", usable));
  add(cores, fmt::format("{} physical cores", cores));
  add(usable, fmt::format("{} usable processors", usable));
}

using Value = std::optional<Estimate> (*)(const CellFigures&);

Series curve_series(const Analysed& study, std::size_t curve, Value value, const char* what,
                    std::string (*text)(const Estimate&)) {
  Series series;
  const Cell& first = *study.cells[study.curves[curve].front()].cell;
  series.name = curve_name(first);
  series.colour = colour_of(study, first);
  for (const std::size_t k : study.curves[curve]) {
    const CellFigures& cell = study.cells[k];
    const std::optional<Estimate> estimate = drawable(cell) ? value(cell) : std::nullopt;
    if (!estimate) continue;
    series.points.push_back(
        point_of(cell.cell->workers, *estimate, static_cast<std::ptrdiff_t>(k),
                 fmt::format("{}, {}: {} {}", series.name, workers_text(cell.cell->workers), what, text(*estimate))));
  }
  return series;
}

double highest(const Panel& panel) {
  double most = 0;
  for (const Series& series : panel.series) {
    for (const FigurePoint& point : series.points) most = std::max(most, point.high);
  }
  return most;
}

double lowest(const Panel& panel) {
  double least = 1e300;
  for (const Series& series : panel.series) {
    for (const FigurePoint& point : series.points) least = std::min(least, point.low > 0 ? point.low : point.y);
  }
  return least;
}

// A row a worker count, a column a curve.
FigureTable table_of(const Panel& panel, const char* head) {
  FigureTable table;
  table.heads.push_back(head);
  std::vector<double> at;
  for (const Series& series : panel.series) {
    table.heads.push_back(series.name);
    for (const FigurePoint& point : series.points) at.push_back(point.x);
  }
  std::sort(at.begin(), at.end());
  at.erase(std::unique(at.begin(), at.end()), at.end());
  for (const double x : at) {
    std::vector<std::string> row = {fmt::format("{:g}", x)};
    for (const Series& series : panel.series) {
      const auto found = std::find_if(series.points.begin(), series.points.end(),
                                      [&](const FigurePoint& point) { return point.x == x; });
      const std::size_t colon = found == series.points.end() ? 0 : found->text.rfind(": ");
      row.push_back(found == series.points.end() ? "" : found->text.substr(colon + 2));
    }
    table.rows.push_back(std::move(row));
  }
  return table;
}

std::optional<Estimate> speedup_of(const CellFigures& cell) {
  return cell.speedup;
}

std::optional<Estimate> efficiency_of(const CellFigures& cell) {
  if (!cell.speedup) return std::nullopt;
  Estimate e = *cell.speedup;
  const double factor = 100.0 / cell.cell->workers;
  e.median *= factor;
  e.low *= factor;
  e.high *= factor;
  return e;
}

std::string percent_estimate(const Estimate& e) {
  if (e.claimed) return fmt::format("{:.0f} % ({:.0f} to {:.0f})", e.median, e.low, e.high);
  return e.count < 2 ? fmt::format("{:.0f} %, seen once", e.median)
                     : fmt::format("{:.0f} %, seen {:.0f}–{:.0f}", e.median, e.low, e.high);
}

void add_ideal(Panel& panel) {
  panel.references.push_back({"ideal", {{panel.x.from, panel.x.from}, {panel.x.to, panel.x.to}}});
}

// What the formula says beyond the counts that were measured.
void add_fit(const Analysed& study, Panel& panel, const std::vector<std::size_t>& curves) {
  for (const CurveModels& curve : models_of(study)) {
    if (curve.scaling.fits.empty() || std::find(curves.begin(), curves.end(), curve.of->curve) == curves.end())
      continue;
    const ScalingFit& fit = curve.scaling.fits.front();
    const int measured = curve.of->cell->workers;
    ReferenceLine line{fmt::format("{}, by its {}", curve_name(*curve.of->cell), name_of(fit.model))};
    for (const auto& [workers, bounds] : fit.speedup) {
      if (workers < measured || workers > 2 * measured) continue;
      line.points.emplace_back(workers, bounds.value);
      line.bounds.emplace_back(bounds.low, bounds.high);
    }
    if (line.points.size() < 2) continue;
    widen(panel.x, line.points.back().first);
    panel.references.push_back(std::move(line));
    return;  // one band is read, several are not
  }
}

void add_ceiling(const Analysed& study, Panel& panel, const std::vector<std::size_t>& curves) {
  for (const std::size_t c : curves) {
    const CellFigures& last = study.cells[study.curves[c].back()];
    const auto path = critical_path_of(last);
    if (!path || last.baseline < 0) continue;
    const double limit = study.cells[static_cast<std::size_t>(last.baseline)].time_s->median / *path;
    if (limit > 4 * last.cell->workers) continue;
    panel.references.push_back(
        {fmt::format("ceiling by the critical path, {:.3g}", limit), {{panel.x.from, limit}, {panel.x.to, limit}}});
    return;
  }
}

std::string where(const Analysed& study, std::size_t point) {
  const std::string text = point_in_words(study.record->points[point]);
  return text.empty() ? std::string() : " at " + text;
}

constexpr const char* bars_are = "Bars are 95 % intervals of the median of per-round ratios.";

std::optional<Panel> speedup_panel(const Analysed& study, std::size_t point, std::string& left_out) {
  const DrawnCurves drawn = drawn_curves(study, point);
  left_out = drawn.left_out;
  if (drawn.curves.empty()) return std::nullopt;
  Panel panel;
  panel.x = workers_axis(study, drawn.curves);
  for (const std::size_t c : drawn.curves)
    panel.series.push_back(curve_series(study, c, speedup_of, "speedup", ratio_text));
  panel.y = {"speedup over the baseline", ""};
  add_fit(study, panel, drawn.curves);
  add_ceiling(study, panel, drawn.curves);
  const double top = std::min(std::max(highest(panel) * 1.35, 1.2), std::max(panel.x.to, highest(panel)) * 1.05);
  if (panel.x.logarithmic) {
    fit_logarithmic(panel.y, std::min(lowest(panel), 1.0), top);
  } else {
    fit_axis(panel.y, 0, top);
  }
  add_ideal(panel);
  mark_processors(study, panel);
  return panel;
}

}  // namespace

MaybeFigure speedup_figure(const Analysed& study) {
  std::string left_out;
  std::optional<Panel> panel = speedup_panel(study, study.conclusion.point, left_out);
  if (!panel) return std::nullopt;
  Figure figure{"speedup", "Speedup over workers" + where(study, study.conclusion.point)};
  figure.caption = std::string(bars_are) + (left_out.empty() ? "" : " " + left_out);
  figure.table = table_of(*panel, "workers");
  figure.panels.push_back(std::move(*panel));
  return figure;
}

MaybeFigure efficiency_figure(const Analysed& study) {
  const DrawnCurves drawn = drawn_curves(study, study.conclusion.point);
  if (drawn.curves.empty()) return std::nullopt;
  Figure figure{"efficiency", "Efficiency over workers" + where(study, study.conclusion.point)};
  figure.caption = "Speedup divided by workers: 100 % is ideal." + (drawn.left_out.empty() ? "" : " " + drawn.left_out);
  Panel panel;
  panel.x = workers_axis(study, drawn.curves);
  for (const std::size_t c : drawn.curves)
    panel.series.push_back(curve_series(study, c, efficiency_of, "efficiency", percent_estimate));
  panel.y = {"efficiency", "%"};
  double most = 100;
  for (const Series& series : panel.series) {
    for (const FigurePoint& point : series.points) most = std::max(most, point.y * 1.1);
  }
  fit_axis(panel.y, 0, most);
  panel.references.push_back({"100 %", {{panel.x.from, 100}, {panel.x.to, 100}}});
  mark_processors(study, panel);
  figure.table = table_of(panel, "workers");
  figure.panels.push_back(std::move(panel));
  return figure;
}

MaybeFigure memory_figure(const Analysed& study) {
  const DrawnCurves drawn = drawn_curves(study, study.conclusion.point);
  Panel panel;
  bool several = false;
  for (const std::size_t c : drawn.curves) {
    Series series;
    const Cell& first = *study.cells[study.curves[c].front()].cell;
    series.name = curve_name(first);
    series.colour = colour_of(study, first);
    for (const std::size_t k : study.curves[c]) {
      const CellFigures& cell = study.cells[k];
      if (!drawable(cell) || cell.peak_bytes <= 0) continue;
      several = several || cell.several_processes;
      series.points.push_back(exact_point(cell.cell->workers, cell.peak_bytes, static_cast<std::ptrdiff_t>(k),
                                          fmt::format("{}, {}: {}{}", series.name, workers_text(cell.cell->workers),
                                                      cell.several_processes ? "at least " : "",
                                                      bytes_text(static_cast<std::uint64_t>(cell.peak_bytes)))));
    }
    if (!series.points.empty()) panel.series.push_back(std::move(series));
  }
  if (panel.series.empty()) return std::nullopt;
  Figure figure{"memory", "Memory over workers" + where(study, study.conclusion.point)};
  figure.caption =
      several ? "The most that was resident; with several processes a lower bound, pages they share counted once."
              : "The most that was resident.";
  panel.x = workers_axis(study, drawn.curves);
  panel.y = {"memory", "B"};
  fit_axis(panel.y, 0, highest(panel));
  figure.table = table_of(panel, "workers");
  figure.panels.push_back(std::move(panel));
  return figure;
}

// One panel a value of the further dimensions, at the largest size of each.
MaybeFigure dimensions_figure(const Analysed& study) {
  constexpr std::size_t most_panels = 9;
  std::vector<std::size_t> points;
  const std::vector<Point>& all = study.record->points;
  for (std::size_t p = 0; p < all.size(); ++p) {
    const auto same = std::find_if(points.begin(), points.end(), [&](std::size_t q) {
      return all[q].dimensions == all[p].dimensions && all[q].pin == all[p].pin;
    });
    if (same == points.end()) {
      points.push_back(p);
    } else if (all[p].size > all[*same].size) {
      *same = p;
    }
  }
  if (points.size() < 2) return std::nullopt;
  Figure figure{"dimensions", "Speedup over workers, by what else was varied"};
  figure.caption = bars_are;
  if (points.size() > most_panels) {
    figure.caption += fmt::format(" The first {} of {} values are drawn.", most_panels, points.size());
    points.resize(most_panels);
  }
  double top = 0;
  double bottom = 1;
  for (const std::size_t point : points) {
    std::string left_out;
    std::optional<Panel> panel = speedup_panel(study, point, left_out);
    if (!panel) continue;
    panel->title = point_in_words(all[point]);
    panel->marks.clear();
    for (std::size_t s = 0; s < panel->series.size(); ++s) {
      for (const FigurePoint& p : panel->series[s].points)
        figure.table.rows.push_back({panel->title, panel->series[s].name, fmt::format("{:g}", p.x),
                                     p.text.substr(p.text.rfind(": speedup ") + 10)});
    }
    top = std::max(top, panel->y.to);
    bottom = std::min(bottom, panel->y.from);
    figure.panels.push_back(std::move(*panel));
  }
  if (figure.panels.size() < 2) return std::nullopt;
  // The same scale in all of them: that is what they are compared by.
  for (Panel& panel : figure.panels) {
    if (panel.y.logarithmic) {
      fit_logarithmic(panel.y, bottom, top);
    } else {
      fit_axis(panel.y, 0, top);
    }
  }
  figure.table.heads = {"at", "variant", "workers", "speedup"};
  return figure;
}

}  // namespace antcrew::internal
