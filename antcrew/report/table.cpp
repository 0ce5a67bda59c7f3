#include "antcrew/report/table.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/thresholds.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/findings.hpp"
#include "antcrew/report/grid.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/internal/cell_texts.hpp"
#include "antcrew/report/notes.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

using internal::limited_by_processors;

TextGrid grid_of(const StudyView& view) {
  TextGrid grid(internal::cell_columns());
  for (std::size_t point = 0; point < view.points.size(); ++point) {
    grid.heading("");
    grid.heading(view.points[point]);
    const CellFigures* above = nullptr;
    for (const CellView& cell : view.cells) {
      if (cell.numbers->cell->point != point) continue;
      const bool name_again = !internal::same_variant(above, *cell.numbers);
      grid.row(internal::marked_texts(cell, name_again), internal::cell_styles(cell));
      above = cell.numbers;
    }
  }
  return grid;
}

std::string memory_legend(const Analysed& study) {
  for (const CellFigures& f : study.cells) {
    if (f.several_processes) {
      return "Memory: the most that was resident; ≥ with all its processes together, pages they share counted once, "
             "seen " +
             std::string(study.record->commands ? "at moments of its trials" : "in untimed calls") + ".\n";
    }
  }
  return "Memory: the most that was resident.\n";
}

std::string checks_legend(const Analysed& study) {
  int checked = 0;
  int all = 0;
  for (const CellFigures& f : study.cells) {
    if (f.cell->kind != Cell::Kind::variant || f.cell->trials.empty()) continue;
    ++all;
    checked += f.cell->check && f.cell->check->other_size > 0 ? 1 : 0;
  }
  if (checked == 0) return {};
  return fmt::format("Every timed answer was compared; {} of {} cells were tried with another input, too.\n", checked,
                     all);
}

bool is_crowded(const Analysed& study) {
  return std::any_of(study.cells.begin(), study.cells.end(),
                     [](const CellFigures& f) { return limited_by_processors(f) && f.verdict == Verdict::holds; });
}

std::string legend(const StudyView& view, const TextGrid& grid, std::size_t width) {
  const RoundsView& rounds = view.rounds;
  const std::string count =
      rounds.fewest == rounds.most ? std::to_string(rounds.most) : fmt::format("{} to {}", rounds.fewest, rounds.most);
  std::string text =
      fmt::format("\nMedians of {} round{}, each of fresh processes", count, rounds.most == 1 ? "" : "s");
  if (rounds.most >= least_for_interval) text += "; in brackets 95 % intervals, each for itself";
  if (rounds.fewest < least_for_interval)
    text += fmt::format("; under {} rounds no interval is claimed, only what was seen", least_for_interval);
  text +=
      ". Overhead in worker-seconds: workers × time − baseline. Busy: processors kept busy, CPU time / wall time.\n";
  if (rounds.confirming > 0) {
    text += fmt::format("*: confirmed, the figures of {} rounds that were made afterwards for the best only.\n",
                        rounds.confirming);
  }
  if (is_crowded(view.study))
    text += "Efficiency in [ ]: per usable processor, where there are more workers than processors.\n";
  const auto hidden = grid.left_out(width);
  if (std::find(hidden.begin(), hidden.end(), "memory") == hidden.end()) text += memory_legend(view.study);
  text += checks_legend(view.study);
  if (!hidden.empty()) text += fmt::format("Not shown at this width: {}.\n", joined(hidden));
  return text;
}

}  // namespace

std::string table_text(const StudyView& view, const Look& look) {
  const TextGrid grid = grid_of(view);
  const std::string notes = first_findings(view, 3) + legend(view, grid, look.width) + text_of(notes_of(view));
  return styled(wrapped(view.sentence, look.width), Style::heading, look) + "\n\n" + wrapped(view.title, look.width) +
         "\n\n" + grid.text(look) + wrapped(notes, look.width);
}

}  // namespace antcrew::report_layer
