#include "antcrew/report/progress_table.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/report/grid.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/internal/figure_parts.hpp"

namespace antcrew::report_layer {
namespace {

std::size_t timed_rounds(const Cell& cell) {
  return static_cast<std::size_t>(
      std::count_if(cell.trials.begin(), cell.trials.end(), [](const Trial& t) { return t.wall_s > 0; }));
}

std::string verdict_so_far(const CellFigures& f) {
  return f.verdict < Verdict::not_measured ? name_of(f.verdict) : "";
}

}  // namespace

std::string progress_table(const Analysed& study, std::size_t point, const Look& look, std::size_t most_lines) {
  if (point >= study.record->points.size()) return {};
  std::vector<const CellFigures*> cells;
  bool timed = false;
  for (const CellFigures& f : study.cells) {
    if (f.cell->point != point || !f.newest || f.cell->kind == Cell::Kind::probe) continue;
    cells.push_back(&f);
    timed = timed || timed_rounds(*f.cell) > 0;
  }
  if (!timed || most_lines < 4) return {};
  const std::size_t room = most_lines - 2;
  const std::size_t all = cells.size();
  if (cells.size() > room) {
    const auto last_of_curve = [&](const CellFigures* f) {
      return f->cell->kind == Cell::Kind::baseline || &study.cells[study.curves[f->curve].back()] == f;
    };
    std::vector<const CellFigures*> kept;
    std::copy_if(cells.begin(), cells.end(), std::back_inserter(kept), last_of_curve);
    kept.resize(std::min(kept.size(), room - 1));
    cells = kept;
  }
  TextGrid grid({{"variant", false, 9},
                 {"crew", false, 1},
                 {"workers", true, 9},
                 {"time", true, 8},
                 {"speedup so far", false, 9},
                 {"rounds", true, 7},
                 {"", false, 9}});
  for (const CellFigures* f : cells) {
    const bool baseline = f->cell->kind == Cell::Kind::baseline;
    grid.row({printable(f->cell->variant, 40), baseline ? "" : f->cell->crew, std::to_string(f->cell->workers),
              f->time_s ? duration_median_text(*f->time_s) : "", f->speedup && !baseline ? ratio_text(*f->speedup) : "",
              std::to_string(timed_rounds(*f->cell)), verdict_so_far(*f)});
  }
  std::string text = grid.text(look);
  if (cells.size() < all)
    text += fmt::format("… and {} more cells at {}\n", all - cells.size(), point_in_words(study.record->points[point]));
  return text;
}

}  // namespace antcrew::report_layer
