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

TextGrid grid_of(const Analysed& study) {
  TextGrid grid(internal::cell_columns());
  for (std::size_t point = 0; point < study.record->points.size(); ++point) {
    grid.heading("");
    grid.heading(point_in_words(study.record->points[point]));
    const CellFigures* above = nullptr;
    for (const CellFigures& f : study.cells) {
      if (f.cell->point != point) continue;
      grid.row(internal::cell_texts(study, f, !internal::same_variant(above, f)), internal::cell_styles(study, f));
      above = &f;
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

struct Rounds {
  int fewest = 0;
  int most = 0;
  bool crowded = false;
  int confirmed = 0;
};

Rounds rounds_of(const Analysed& study) {
  Rounds rounds;
  for (const CellFigures& f : study.cells) {
    rounds.crowded = rounds.crowded || (limited_by_processors(f) && f.verdict == Verdict::holds);
    if (!f.speedup || f.cell->kind == Cell::Kind::baseline) continue;
    if (f.confirmed) rounds.confirmed = f.speedup->count;
    const int count = f.explored ? f.explored->count : f.speedup->count;
    rounds.fewest = rounds.fewest == 0 ? count : std::min(rounds.fewest, count);
    rounds.most = std::max(rounds.most, count);
  }
  return rounds;
}

std::string legend(const Analysed& study, const TextGrid& grid, std::size_t width) {
  const Rounds rounds = rounds_of(study);
  const std::string count =
      rounds.fewest == rounds.most ? std::to_string(rounds.most) : fmt::format("{} to {}", rounds.fewest, rounds.most);
  std::string text =
      fmt::format("\nMedians of {} round{}, each of fresh processes", count, rounds.most == 1 ? "" : "s");
  if (rounds.most >= least_for_interval) text += "; in brackets 95 % intervals, each for itself";
  if (rounds.fewest < least_for_interval)
    text += fmt::format("; under {} rounds no interval is claimed, only what was seen", least_for_interval);
  text +=
      ". Overhead in worker-seconds: workers × time − baseline. Busy: processors kept busy, CPU time / wall time.\n";
  if (rounds.confirmed > 0) {
    text += fmt::format("*: confirmed, the figures of {} rounds that were made afterwards for the best only.\n",
                        rounds.confirmed);
  }
  if (rounds.crowded)
    text += "Efficiency in [ ]: per usable processor, where there are more workers than processors.\n";
  const auto hidden = grid.left_out(width);
  if (std::find(hidden.begin(), hidden.end(), "memory") == hidden.end()) text += memory_legend(study);
  text += checks_legend(study);
  if (!hidden.empty()) text += fmt::format("Not shown at this width: {}.\n", joined(hidden));
  return text;
}

}  // namespace

std::string table_text(const Analysed& study, const Look& look) {
  const TextGrid grid = grid_of(study);
  const std::string notes = first_findings(study, 3) + legend(study, grid, look.width) + notes_text(study);
  return styled(wrapped(headline(study), look.width), Style::heading, look) + "\n\n" +
         wrapped(printable(study.record->title, 160), look.width) + "\n\n" + grid.text(look) +
         wrapped(notes, look.width);
}

}  // namespace antcrew::report_layer
