#include "antcrew/report/headline.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/report/text.hpp"

namespace antcrew {
namespace {

std::string workers_in_words(int workers) {
  return fmt::format("{} worker{}", workers, workers == 1 ? "" : "s");
}

std::string speedup_in_words(const CellFigures& figures) {
  const Estimate& speedup = *figures.speedup;
  if (speedup.claimed) return "speedup " + ratio_text(speedup);
  return fmt::format("speedup {}, only the range of {} round{}", ratio_text(speedup), speedup.count,
                     speedup.count == 1 ? "" : "s");
}

std::size_t largest_point(const Record& record) {
  const auto& points = record.points;
  return static_cast<std::size_t>(
      std::max_element(points.begin(), points.end(), [](const Point& a, const Point& b) { return a.size < b.size; }) -
      points.begin());
}

std::string none_holds(const Analysed& study, std::size_t point) {
  for (const CellFigures& figures : study.cells) {
    const bool told = figures.cell->point == point && !figures.evidence.empty();
    if (told && figures.cell->kind == Cell::Kind::baseline) {
      return fmt::format("Nothing to compare with at {}: the baseline has no figures ({}).",
                         point_in_words(study.record->points[point]), figures.evidence);
    }
  }
  return fmt::format("No variant holds at {}: see the verdicts.", point_in_words(study.record->points[point]));
}

}  // namespace

std::string cell_in_words(const Cell& cell) {
  if (cell.kind == Cell::Kind::baseline) return "the baseline";
  const std::string attempt = cell.attempt > 1 ? fmt::format(", attempt {},", cell.attempt) : "";
  return fmt::format("\"{}\" ({}){} with {}", cell.variant, cell.crew, attempt, workers_in_words(cell.workers));
}

std::string point_in_words(const Point& point) {
  std::string text = "size " + count_text(point.size);
  if (point.grown_for > 0) {
    text += fmt::format(" ({} grown for {} worker{})", count_text(point.base_size), point.grown_for,
                        point.grown_for == 1 ? "" : "s");
  }
  for (const auto& [name, value] : point.dimensions) text += ", " + name + " " + count_text(value);
  if (point.pin != Pin::off) text += std::string(", pinned ") + name_of(point.pin);
  return text;
}

std::string headline(const Analysed& study) {
  if (study.record->points.empty()) return "Nothing was measured.";
  const std::size_t point = largest_point(*study.record);
  const Best& best = study.best[point];
  if (best.cell == nullptr) return none_holds(study, point);
  const std::string at = point_in_words(study.record->points[point]);
  const std::string cell = cell_in_words(*best.cell->cell);
  if (!best.cell->speedup->claimed) {
    return fmt::format("Too few rounds to call at {}: the best so far is {}, {}; give it more time with --budget.", at,
                       cell, speedup_in_words(*best.cell));
  }
  if (!best.faster) {
    return fmt::format("No variant is shown to beat the baseline at {}: the nearest is {}, {}.", at, cell,
                       speedup_in_words(*best.cell));
  }
  std::string text =
      fmt::format("{}{} at {}: {}, efficiency {}.", best.beats_next ? "Best: " : "Among the best: ", cell, at,
                  speedup_in_words(*best.cell), percent_text(*best.cell->efficiency));
  if (!best.beats_next) {
    text += fmt::format(" Not told apart from {}, {}.", cell_in_words(*best.runner_up->cell),
                        speedup_in_words(*best.runner_up));
  }
  return text;
}

}  // namespace antcrew
