// Figures of how it was measured and what each step brought: every trial, and the ladder.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/internal/figure_parts.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::internal {
namespace {

// The baseline, and each drawn variant at its largest worker count.
std::vector<const CellFigures*> shown_cells(const Analysed& study) {
  std::vector<const CellFigures*> cells;
  for (const CellFigures& cell : study.cells) {
    if (cell.cell->kind == Cell::Kind::baseline && cell.cell->point == study.conclusion.point &&
        cell.cell->baseline_for.empty())
      cells.push_back(&cell);
  }
  for (const std::size_t c : drawn_curves(study, study.conclusion.point).curves)
    cells.push_back(&study.cells[study.curves[c].back()]);
  return cells;
}

// Bars from the left, the first at the top, with a line where the baseline is.
void bars_of(Panel& panel, const std::vector<std::string>& names, double high) {
  panel.y = categories("", names);
  panel.y.reversed = true;
  fit_axis(panel.x, 0, high * 1.02);
  panel.marks.push_back({1, "baseline"});
}

}  // namespace

MaybeFigure trials_figure(const Analysed& study) {
  Panel panel;
  panel.y = {"time of a call", "s"};
  double first = 1e300, last = 0, low = 1e300, high = 0;
  Figure figure{"trials", "Every trial, in the order of time"};
  figure.table.heads = {"cell", "trials", "fastest", "median", "slowest"};
  for (const CellFigures* cell : shown_cells(study)) {
    const bool baseline = cell->cell->kind == Cell::Kind::baseline;
    Series series{baseline ? "baseline" : bar_name(study, *cell->cell), Series::Kind::dots,
                  baseline ? -1 : colour_of(study, *cell->cell)};
    std::vector<double> times;
    for (const Trial& trial : cell->cell->trials) {
      if (!(trial.wall_s > 0)) continue;
      const double at = trial.start_s.value_or(static_cast<double>(trial.order.value_or(trial.round)));
      series.points.push_back(
          exact_point(at, trial.wall_s, place_of(study, *cell),
                      fmt::format("{}, round {}{}: {}", series.name, trial.round,
                                  trial.confirming > 0 ? ", confirming" : "", duration_text(trial.wall_s))));
      times.push_back(trial.wall_s);
      first = std::min(first, at);
      last = std::max(last, at);
      low = std::min(low, trial.wall_s);
      high = std::max(high, trial.wall_s);
    }
    if (times.empty()) continue;
    figure.table.rows.push_back(
        {series.name, fmt::format("{}", times.size()), duration_text(*std::min_element(times.begin(), times.end())),
         duration_text(median(times)), duration_text(*std::max_element(times.begin(), times.end()))});
    panel.series.push_back(std::move(series));
  }
  if (panel.series.empty()) return std::nullopt;
  panel.x = {"time since the study began", "s"};
  fit_axis(panel.x, first, last, first < 0.3 * last);
  high > 8 * low ? fit_logarithmic(panel.y, low, high) : fit_axis(panel.y, 0, high);
  figure.caption =
      "A slope is drift, two levels are two speeds of the machine, a dot far off is a disturbance. At the headline's "
      "size; each variant with its most workers.";
  figure.panels.push_back(std::move(panel));
  return figure;
}

MaybeFigure ladder_figure(const Analysed& study) {
  for (const std::vector<LadderStep>& ladder : study.ladders) {
    const bool here =
        !ladder.empty() && ladder.front().cell != nullptr && ladder.front().cell->cell->point == study.conclusion.point;
    // The one with the most workers that stands first in the record says what all is worth.
    if (!here) continue;
    const std::vector<LadderStep>* most = &ladder;
    for (const std::vector<LadderStep>& other : study.ladders) {
      if (!other.empty() && other.front().cell != nullptr &&
          other.front().cell->cell->point == study.conclusion.point &&
          other.back().cell->cell->workers > most->back().cell->cell->workers)
        most = &other;
    }
    Figure figure{"ladder", "What each step brought"};
    figure.caption =
        "Speedup over the baseline after each step; behind a bar its speedup, and how many times faster than the step "
        "before it is.";
    figure.table.heads = {"step", "speedup", "over the step before"};
    Panel panel;
    panel.x = {"speedup over the baseline", ""};
    Series series{"after this step", Series::Kind::steps, 0};
    std::vector<std::string> names;
    double high = 1;
    for (const LadderStep& step : *most) {
      if (step.cell == nullptr || !drawable(*step.cell) || !step.cell->speedup) continue;
      const std::string gain = step.over_previous ? "× " + ratio_text(*step.over_previous) : "";
      figure.table.rows.push_back({bar_name(study, *step.cell->cell), ratio_text(*step.cell->speedup), gain});
      series.points.push_back(
          point_of(static_cast<double>(names.size()), *step.cell->speedup, place_of(study, *step.cell),
                   fmt::format("{:.2g}", step.cell->speedup->median) +
                       (step.over_previous ? fmt::format(", × {:.2g}", step.over_previous->median) : "")));
      names.push_back(bar_name(study, *step.cell->cell));
      high = std::max(high, step.cell->speedup->high);
    }
    if (names.size() < 2) return std::nullopt;
    bars_of(panel, names, high);
    panel.series.push_back(std::move(series));
    figure.panels.push_back(std::move(panel));
    return figure;
  }
  return std::nullopt;
}

// Where there is one worker count, lines over workers are single points.
MaybeFigure variants_figure(const Analysed& study) {
  const std::vector<const CellFigures*> cells = leaders(study);
  if (cells.empty()) return std::nullopt;
  const bool same = std::all_of(cells.begin(), cells.end(), [&](const CellFigures* cell) {
    return cell->cell->workers == cells.front()->cell->workers;
  });
  const std::string point = point_in_words(study.record->points[study.conclusion.point]);
  Figure figure{"variants", fmt::format("Speedup of each variant with {}{}",
                                        same ? workers_text(cells.front()->cell->workers) : "its fastest worker count",
                                        point.empty() ? "" : " at " + point)};
  figure.caption = "Thin bars are 95 % intervals of the median of per-round ratios. " +
                   drawn_curves(study, study.conclusion.point).left_out;
  figure.table.heads = {"variant", "workers", "speedup", "time"};
  Panel panel;
  panel.x = {"speedup over the baseline", ""};
  std::vector<std::string> names;
  double high = 1;
  for (const CellFigures* cell : cells) {
    const std::string name = same ? curve_name(*cell->cell) : bar_name(study, *cell->cell);
    Series series{name, Series::Kind::steps, colour_of(study, *cell->cell)};
    series.points.push_back(point_of(static_cast<double>(names.size()), *cell->speedup, place_of(study, *cell),
                                     ratio_text(*cell->speedup)));
    figure.table.rows.push_back({curve_name(*cell->cell), fmt::format("{}", cell->cell->workers),
                                 ratio_text(*cell->speedup), duration_text(*cell->time_s)});
    names.push_back(name);
    high = std::max(high, cell->speedup->high);
    panel.series.push_back(std::move(series));
  }
  bars_of(panel, names, high);
  figure.panels.push_back(std::move(panel));
  return figure;
}

}  // namespace antcrew::internal
