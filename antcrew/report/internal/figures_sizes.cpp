// Figures over the size of the input.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/sizes.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/internal/figure_parts.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::internal {
namespace {

// The sizes at the headline's dimensions, ascending: their points.
std::vector<std::size_t> points_by_size(const Analysed& study) {
  const std::vector<Point>& all = study.record->points;
  std::vector<std::size_t> points;
  if (all.empty()) return points;
  const Point& headline = all[study.conclusion.point];
  for (std::size_t p = 0; p < all.size(); ++p) {
    if (all[p].dimensions == headline.dimensions && all[p].pin == headline.pin &&
        all[p].grown_for == headline.grown_for)
      points.push_back(p);
  }
  std::stable_sort(points.begin(), points.end(),
                   [&](std::size_t a, std::size_t b) { return all[a].size < all[b].size; });
  return points;
}

const CellFigures* baseline_at(const Analysed& study, std::size_t point) {
  for (const CellFigures& cell : study.cells) {
    if (cell.cell->kind == Cell::Kind::baseline && cell.cell->point == point && cell.cell->baseline_for.empty())
      return &cell;
  }
  return nullptr;
}

const CellFigures* same_at(const Analysed& study, const Cell& like, std::size_t point) {
  for (const CellFigures& cell : study.cells) {
    if (cell.cell->point == point && cell.cell->workers == like.workers && cell.newest &&
        cell.cell->kind == Cell::Kind::variant && cell.cell->key() == like.key())
      return &cell;
  }
  return nullptr;
}

double size_of(const Analysed& study, std::size_t point) {
  return static_cast<double>(study.record->points[point].size);
}

Axis size_axis(const Analysed& study, const std::vector<std::size_t>& points) {
  Axis axis{"size", "items"};
  std::vector<double> sizes;
  for (const std::size_t point : points) sizes.push_back(std::max(1.0, size_of(study, point)));
  std::sort(sizes.begin(), sizes.end());
  fit_values(axis, sizes, sizes.back() >= 4 * sizes.front());
  return axis;
}

// Where the input no longer fits a cache, by the measured memory of the input at the sizes around it.
void mark_caches(const Analysed& study, const std::vector<std::size_t>& points, Panel& panel) {
  std::map<double, double> bytes;  // by size
  for (const BlockFacts& block : study.record->blocks) {
    if (std::find(points.begin(), points.end(), block.point) != points.end() && block.input_bytes > 0)
      bytes[size_of(study, block.point)] = static_cast<double>(block.input_bytes);
  }
  for (const auto& cache : study.record->machine.topology.caches) {
    const double limit = static_cast<double>(cache.bytes);
    for (auto at = bytes.begin(); limit > 0 && at != bytes.end() && std::next(at) != bytes.end(); ++at) {
      const auto [size, here] = *at;
      const auto [next_size, there] = *std::next(at);
      if (!(here <= limit && there > limit)) continue;
      const double share = (limit - here) / (there - here);
      panel.marks.push_back(
          {size + share * (next_size - size), fmt::format("L{} {}", cache.level, short_bytes(limit))});
    }
  }
}

void mark_crossovers(const Analysed& study, const std::vector<const CellFigures*>& cells, Panel& panel) {
  for (const Crossover& crossover : crossovers_of(study)) {
    const bool drawn = std::any_of(cells.begin(), cells.end(), [&](const CellFigures* cell) {
      return cell->cell->key() == crossover.of->cell->key() && cell->cell->workers == crossover.of->cell->workers;
    });
    if (!drawn || crossover.kind != Crossover::Kind::between) continue;
    panel.marks.push_back(
        {crossover.size.value, fmt::format("{} pays from {}", printable(crossover.of->cell->variant, 18),
                                           short_count(std::round(crossover.size.value)))});
  }
  if (panel.marks.size() > 4) panel.marks.resize(4);
}

FigureTable rows_of(const Panel& panel) {
  FigureTable table;
  table.heads = {"variant", "size", panel.y.label};
  for (const Series& series : panel.series) {
    for (const FigurePoint& point : series.points)
      table.rows.push_back({series.name, count_text(static_cast<std::uint64_t>(point.x)),
                            point.text.substr(point.text.rfind(": ") + 2)});
  }
  return table;
}

void fit_to_series(Panel& panel, double also_low, double also_high, bool logarithmic) {
  double low = also_low;
  double high = also_high;
  for (const Series& series : panel.series) {
    for (const FigurePoint& point : series.points) {
      low = std::min(low, point.low > 0 ? point.low : point.y);
      high = std::max(high, point.high);
    }
  }
  logarithmic ? fit_logarithmic(panel.y, low, high) : fit_axis(panel.y, 0, high);
}

std::string with_workers(const CellFigures& cell) {
  return fmt::format("{} with {} worker{}", curve_name(*cell.cell), cell.cell->workers,
                     cell.cell->workers == 1 ? "" : "s");
}

}  // namespace

MaybeFigure time_figure(const Analysed& study) {
  const std::vector<std::size_t> points = points_by_size(study);
  if (points.size() < 2) return std::nullopt;
  Panel panel;
  panel.x = size_axis(study, points);
  panel.y = {"time of a call", "s"};
  Series baseline{"baseline", Series::Kind::line, -1};
  for (const std::size_t point : points) {
    const CellFigures* cell = baseline_at(study, point);
    if (cell == nullptr || !cell->time_s) continue;
    baseline.points.push_back(point_of(
        size_of(study, point), *cell->time_s, place_of(study, *cell),
        fmt::format("baseline at size {}: {}", short_count(size_of(study, point)), duration_text(*cell->time_s))));
  }
  if (!baseline.points.empty()) panel.series.push_back(std::move(baseline));
  const std::vector<const CellFigures*> cells = leaders(study);
  for (const CellFigures* leader : cells) {
    Series series{with_workers(*leader), Series::Kind::line, colour_of(study, *leader->cell)};
    for (const std::size_t point : points) {
      const CellFigures* cell = same_at(study, *leader->cell, point);
      if (cell == nullptr || !drawable(*cell)) continue;
      series.points.push_back(point_of(size_of(study, point), *cell->time_s, place_of(study, *cell),
                                       fmt::format("{} at size {}: {}", series.name, short_count(size_of(study, point)),
                                                   duration_text(*cell->time_s))));
    }
    panel.series.push_back(std::move(series));
  }
  if (panel.series.empty()) return std::nullopt;
  fit_to_series(panel, 1e300, 0, true);
  mark_caches(study, points, panel);
  mark_crossovers(study, cells, panel);
  Figure figure{"time", "Time over size"};
  figure.caption =
      "Both axes are logarithmic: equal distances are equal factors. Each variant with the worker count that is "
      "fastest "
      "at the largest size.";
  figure.table = rows_of(panel);
  figure.panels.push_back(std::move(panel));
  return figure;
}

MaybeFigure speedup_over_size_figure(const Analysed& study) {
  const std::vector<std::size_t> points = points_by_size(study);
  if (points.size() < 2) return std::nullopt;
  Panel panel;
  panel.x = size_axis(study, points);
  panel.y = {"speedup over the baseline", ""};
  const std::vector<const CellFigures*> cells = leaders(study);
  for (const CellFigures* leader : cells) {
    Series series{with_workers(*leader), Series::Kind::line, colour_of(study, *leader->cell)};
    for (const std::size_t point : points) {
      const CellFigures* cell = same_at(study, *leader->cell, point);
      if (cell == nullptr || !drawable(*cell) || !cell->speedup) continue;
      series.points.push_back(point_of(size_of(study, point), *cell->speedup, place_of(study, *cell),
                                       fmt::format("{} at size {}: {}", series.name, short_count(size_of(study, point)),
                                                   ratio_text(*cell->speedup))));
    }
    panel.series.push_back(std::move(series));
  }
  if (panel.series.empty()) return std::nullopt;
  double least = 1;
  for (const Series& series : panel.series) {
    for (const FigurePoint& point : series.points) least = std::min(least, point.y);
  }
  fit_to_series(panel, 0.9, 1.2, least < 0.1);
  panel.references.push_back({"as fast as the baseline", {{panel.x.from, 1}, {panel.x.to, 1}}});
  mark_crossovers(study, cells, panel);
  Figure figure{"speedup-over-size", "Speedup over size"};
  figure.caption =
      "Above 1 the variant is faster than the baseline. Each variant with the worker count that is fastest at the "
      "largest size; bars are 95 % intervals.";
  figure.table = rows_of(panel);
  figure.panels.push_back(std::move(panel));
  return figure;
}

}  // namespace antcrew::internal
