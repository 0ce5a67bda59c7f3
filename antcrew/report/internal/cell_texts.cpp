#include "antcrew/report/internal/cell_texts.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::internal {

bool limited_by_processors(const CellFigures& f) {
  constexpr double busy_share = 0.5;
  if (!f.processor_efficiency || !f.speedup || !f.busy_processors) return false;
  const double processors = f.speedup->median / *f.processor_efficiency;
  return *f.busy_processors >= busy_share * processors;
}

namespace {

std::string efficiency_cell(const CellFigures& f) {
  if (!f.efficiency || f.cell->kind == Cell::Kind::baseline) return {};
  if (!limited_by_processors(f)) return percent_text(*f.efficiency);
  return fmt::format("{} [{}]", percent_text(*f.efficiency), percent_text(*f.processor_efficiency));
}

std::string memory_cell(const CellFigures& f) {
  if (f.peak_bytes <= 0) return {};
  return (f.several_processes ? "≥ " : "") + bytes_text(static_cast<std::uint64_t>(f.peak_bytes));
}

constexpr std::size_t longest_name = 34;  // columns: with the figures that never give way it fits 80

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

std::string verdict_cell(const CellFigures& f) {
  if (f.verdict != Verdict::holds) return short_name(f.verdict);
  if (f.cell->kind == Cell::Kind::baseline) return {};
  if (f.cell->kind != Cell::Kind::probe) return "valid";
  if (!f.part_s) return "probe";
  if (f.part_s->claimed && !f.part_s->leaves_out(0))
    return "probe: part takes " + duration_text(std::max(0.0, f.part_s->high)) + " at most";
  return fmt::format("probe: part takes {} ({} to {})", duration_text(f.part_s->median), duration_text(f.part_s->low),
                     duration_text(f.part_s->high));
}

Style verdict_style(const CellFigures& f) {
  if (f.cell->kind != Cell::Kind::variant) return f.verdict < Verdict::not_measured ? Style::bad : Style::plain;
  if (f.verdict == Verdict::holds) return Style::good;
  return f.verdict < Verdict::not_measured ? Style::bad : Style::open;
}

}  // namespace

std::vector<Style> cell_styles(const CellView& cell) {
  std::vector<Style> styles(cell_columns().size(), cell.best ? Style::heading : Style::plain);
  styles.back() = verdict_style(*cell.numbers);
  return styles;
}

bool same_variant(const CellFigures* above, const CellFigures& f) {
  return above != nullptr && above->cell->key() == f.cell->key() && above->cell->attempt == f.cell->attempt &&
         above->cell->baseline_for == f.cell->baseline_for;
}

std::vector<GridColumn> cell_columns() {
  return {{"variant", false, 9},  {"crew", false, 1},    {"workers", true, 9},    {"time", true, 9},
          {"interval", false, 0}, {"speedup", false, 9}, {"efficiency", true, 8}, {"overhead", true, 6},
          {"busy", true, 7},      {"memory", true, 3},   {"verdict", false, 9}};
}

std::vector<std::string> cell_texts(const CellFigures& f) {
  const Cell& cell = *f.cell;
  const bool baseline = cell.kind == Cell::Kind::baseline;
  const bool ratios = f.verdict == Verdict::holds && f.speedup && !baseline;
  const bool open = f.verdict == Verdict::too_noisy || f.verdict == Verdict::too_few_rounds;
  return {name_in_table(f),
          baseline ? "" : cell.crew,
          std::to_string(cell.workers),
          f.time_s ? duration_median_text(*f.time_s) : "",
          f.time_s ? duration_bounds_text(*f.time_s) : "",
          ratios || open ? ratio_text(*f.speedup) : "",
          ratios ? efficiency_cell(f) : "",
          ratios && f.overhead_s ? duration_text(*f.overhead_s) : "",
          f.busy_processors ? fmt::format("{:.2f}", *f.busy_processors) : "",
          memory_cell(f),
          verdict_cell(f)};
}

namespace {

std::vector<std::string> with_fitting_time(const CellView& cell, std::vector<std::string> texts) {
  constexpr std::size_t time = 3;
  constexpr std::size_t interval = 4;
  if (!cell.fitting_time_s) return texts;
  texts[time] = duration_median_text(*cell.fitting_time_s);
  texts[interval] = duration_bounds_text(*cell.fitting_time_s);
  return texts;
}

std::vector<std::string> row_of(const CellView& cell, bool name_again, const char* best) {
  std::vector<std::string> texts = cell.texts;
  if (!name_again) texts[0] = texts[1] = "";
  if (cell.best && cell.numbers->verdict == Verdict::holds) texts.back() = best;
  return texts;
}

}  // namespace

std::vector<std::string> marked_texts(const CellView& cell, bool name_again) {
  std::vector<std::string> texts = row_of(cell, name_again, "valid, best");
  constexpr std::size_t speedup = 5;
  if (!texts[speedup].empty() && cell.numbers->confirmed) texts[speedup] += " *";
  return texts;
}

std::vector<std::string> short_texts(const CellView& cell, bool name_again) {
  return with_fitting_time(cell, row_of(cell, name_again, "best"));
}

std::vector<std::string> fitted_texts(const CellView& cell, bool name_again) {
  return with_fitting_time(cell, marked_texts(cell, name_again));
}

std::optional<Estimate> fitting_time(const Analysed& study, const CellFigures& f, bool& differs) {
  constexpr double apart = 0.02;
  if (f.cell->kind == Cell::Kind::baseline || f.baseline < 0 || !f.speedup || !f.time_s) return std::nullopt;
  const CellFigures& baseline = study.cells[static_cast<std::size_t>(f.baseline)];
  const bool shown =
      f.verdict == Verdict::holds || f.verdict == Verdict::too_noisy || f.verdict == Verdict::too_few_rounds;
  if (!shown || !baseline.time_s || !(f.speedup->median > 0) || !(f.time_s->median > 0)) return std::nullopt;
  Estimate time = *f.time_s;
  const double factor = baseline.time_s->median / f.speedup->median / time.median;
  differs = differs || std::fabs(factor - 1) > apart;
  for (double* one : {&time.median, &time.low, &time.high}) *one *= factor;
  return time;
}

}  // namespace antcrew::internal
