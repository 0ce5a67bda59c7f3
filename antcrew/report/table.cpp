#include "antcrew/report/table.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/base/units.hpp"
#include "antcrew/report/findings.hpp"
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

// Of workers that mostly wait, processors are not what limits.
bool limited_by_processors(const CellFigures& f) {
  constexpr double busy_share = 0.5;
  if (!f.processor_efficiency || !f.speedup || !f.busy_processors) return false;
  const double processors = f.speedup->median / *f.processor_efficiency;
  return *f.busy_processors >= busy_share * processors;
}

std::string efficiency_cell(const CellFigures& f) {
  if (!f.efficiency || f.cell->kind == Cell::Kind::baseline) return {};
  if (!limited_by_processors(f)) return percent_text(*f.efficiency);
  return fmt::format("{} [{}]", percent_text(*f.efficiency), percent_text(*f.processor_efficiency));
}

std::string memory_cell(const CellFigures& f) {
  if (f.peak_bytes <= 0) return {};
  return (f.several_processes ? "≥ " : "") + bytes_text(static_cast<std::uint64_t>(f.peak_bytes));
}

constexpr std::size_t longest_name = 40;  // columns

std::string name_in_table(const CellFigures& f) {
  const bool several = f.cell->attempt > 1 || !f.newest;
  if (!f.cell->baseline_for.empty())
    return fmt::format("{}, of {}, attempt {}", f.cell->variant, f.cell->baseline_for, f.cell->attempt);
  const std::string name = printable(f.cell->variant, longest_name);
  return several ? fmt::format("{}, attempt {}", name, f.cell->attempt) : name;
}

// Short, so that a column need not give way to it on 100 columns; the whole name stands with its evidence below.
const char* short_name(Verdict verdict) {
  switch (verdict) {
    case Verdict::left_work:
      return "left work";
    case Verdict::remembered:
      return "remembered";
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

std::string verdict_cell(const CellFigures& f, bool best) {
  if (f.verdict != Verdict::holds) return short_name(f.verdict);
  if (best) return "holds, best";
  if (f.cell->kind == Cell::Kind::baseline) return {};
  if (f.cell->kind != Cell::Kind::probe) return name_of(f.verdict);
  if (!f.part_s) return "probe";
  if (f.part_s->claimed && !f.part_s->leaves_out(0))
    return "probe: part takes " + duration_text(std::max(0.0, f.part_s->high)) + " at most";
  return fmt::format("probe: part takes {} ({} to {})", duration_text(f.part_s->median), duration_text(f.part_s->low),
                     duration_text(f.part_s->high));
}

constexpr const char* confirmed_mark = " *";

std::string speedup_cell(const CellFigures& f) {
  return ratio_text(*f.speedup) + (f.confirmed ? confirmed_mark : "");
}

// The leader that the headline names, where it names one as the best.
bool is_best(const Analysed& study, const CellFigures& f) {
  return study.conclusion.leader == &f && study.conclusion.answer == Conclusion::Kind::best;
}

Style style_of(const CellFigures& f) {
  if (f.cell->kind != Cell::Kind::variant) return f.verdict < Verdict::not_measured ? Style::bad : Style::plain;
  if (f.verdict == Verdict::holds) return Style::good;
  return f.verdict < Verdict::not_measured ? Style::bad : Style::open;
}

std::vector<Style> styles_of(const Analysed& study, const CellFigures& f) {
  std::vector<Style> styles(columns().size(), is_best(study, f) ? Style::heading : Style::plain);
  styles.back() = style_of(f);
  return styles;
}

std::vector<std::string> row_of(const CellFigures& f, bool name_again, bool best) {
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
          verdict_cell(f, best)};
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
      grid.row(row_of(f, !same, is_best(study, f)), styles_of(study, f));
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
