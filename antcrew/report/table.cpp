#include "antcrew/report/table.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/base/units.hpp"
#include "antcrew/report/grid.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/notes.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

std::vector<GridColumn> columns() {
  return {{"variant", false, 9},  {"crew", false, 1},    {"workers", true, 9},    {"time", true, 9},
          {"interval", false, 0}, {"speedup", false, 9}, {"efficiency", true, 8}, {"overhead", true, 6},
          {"busy", true, 7},      {"memory", true, 3},   {"verdict", false, 9}};
}

std::string efficiency_cell(const CellFigures& f) {
  if (!f.efficiency || f.cell->kind == Cell::Kind::baseline) return {};
  if (!f.processor_efficiency) return percent_text(*f.efficiency);
  return fmt::format("{} [{}]", percent_text(*f.efficiency), percent_text(*f.processor_efficiency));
}

std::string memory_cell(const CellFigures& f) {
  if (f.peak_bytes <= 0) return {};
  return (f.several_processes ? "≥ " : "") + bytes_text(static_cast<std::uint64_t>(f.peak_bytes));
}

std::string name_in_table(const CellFigures& f) {
  const bool several = f.cell->attempt > 1 || !f.newest;
  if (!f.cell->baseline_for.empty())
    return fmt::format("{}, of {}, attempt {}", f.cell->variant, f.cell->baseline_for, f.cell->attempt);
  return several ? fmt::format("{}, attempt {}", f.cell->variant, f.cell->attempt) : f.cell->variant;
}

// Short, so that a column need not give way to it on 100 columns; the whole name stands with its evidence below.
const char* short_name(Verdict verdict) {
  switch (verdict) {
    case Verdict::left_work:
      return "left work";
    case Verdict::idle_workers:
      return "idle workers";
    case Verdict::too_few_rounds:
      return "too few";
    case Verdict::too_noisy:
      return "too noisy";
    default:
      return name_of(verdict);
  }
}

std::string verdict_cell(const CellFigures& f) {
  if (f.verdict != Verdict::holds) return short_name(f.verdict);
  if (f.cell->kind == Cell::Kind::baseline) return {};
  if (f.cell->kind != Cell::Kind::probe) return name_of(f.verdict);
  return f.part_s ? "probe: part takes " + duration_text(*f.part_s) : "probe";
}

constexpr const char* confirmed_mark = " *";

std::string speedup_cell(const CellFigures& f) {
  return ratio_text(*f.speedup) + (f.confirmed ? confirmed_mark : "");
}

std::vector<std::string> row_of(const CellFigures& f, bool name_again) {
  const Cell& cell = *f.cell;
  const bool baseline = cell.kind == Cell::Kind::baseline;
  const bool ratios = f.verdict == Verdict::holds && f.speedup && !baseline;
  const bool open = f.verdict == Verdict::too_noisy || f.verdict == Verdict::too_few_rounds;
  return {name_again ? name_in_table(f) : "",
          name_again && !baseline ? cell.crew : "",
          std::to_string(cell.workers),
          f.time_s ? duration_median_text(*f.time_s) : "",
          f.time_s ? duration_bounds_text(*f.time_s) : "",
          ratios || open ? speedup_cell(f) : "",
          ratios ? efficiency_cell(f) : "",
          ratios && f.overhead_s ? duration_text(*f.overhead_s) : "",
          f.busy_processors ? fmt::format("{:.2f}", *f.busy_processors) : "",
          memory_cell(f),
          verdict_cell(f)};
}

TextGrid grid_of(const Analysed& study) {
  TextGrid grid(columns());
  for (std::size_t point = 0; point < study.record->points.size(); ++point) {
    grid.heading("");
    grid.heading(point_in_words(study.record->points[point]));
    const Cell* last = nullptr;
    for (const CellFigures& f : study.cells) {
      if (f.cell->point != point) continue;
      const bool same = last != nullptr && last->variant == f.cell->variant && last->crew == f.cell->crew &&
                        last->attempt == f.cell->attempt && last->baseline_for == f.cell->baseline_for;
      grid.row(row_of(f, !same));
      last = f.cell;
    }
  }
  return grid;
}

std::string memory_legend(const Analysed& study) {
  for (const CellFigures& f : study.cells) {
    if (f.several_processes) {
      return "Memory: the most that was resident; ≥ with all its processes together, pages they share counted once, "
             "seen "
             "in untimed calls.\n";
    }
  }
  return "Memory: the most that was resident.\n";
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
    rounds.crowded = rounds.crowded || (f.processor_efficiency && f.verdict == Verdict::holds);
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
  if (!hidden.empty()) text += fmt::format("Not shown at this width: {}.\n", joined(hidden));
  return text;
}

}  // namespace

std::string table_text(const Analysed& study, std::size_t width) {
  const TextGrid grid = grid_of(study);
  const std::string notes = legend(study, grid, width) + notes_text(study);
  return wrapped(headline(study) + "\n\n" + study.record->title, width) + "\n\n" + grid.text(width) +
         wrapped(notes, width);
}

}  // namespace antcrew::report_layer
