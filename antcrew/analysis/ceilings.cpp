// What no number of workers makes shorter.
#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/sizes.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::analysis_layer {
namespace {

// Not the user's.
bool is_of_the_crew(const std::string& phase) {
  return phase == internal::moving_data || phase == internal::taking_data || phase == internal::touching_again;
}

const CellFigures* baseline_of_cell(const Analysed& study, const CellFigures& f) {
  return f.baseline < 0 ? nullptr : &study.cells[static_cast<std::size_t>(f.baseline)];
}

}  // namespace

std::vector<PhaseCeiling> phase_ceilings_of(const Analysed& study, const CellFigures& cell) {
  constexpr double told = 0.05;
  constexpr double hardly_shorter = 0.8;
  constexpr double not_shorter = 0.95;  // where several are in it at once, something else may keep it long
  std::vector<PhaseCeiling> found;
  const CellFigures* baseline = baseline_of_cell(study, cell);
  if (cell.cell->workers < 2 || !cell.time_s || baseline == nullptr || !baseline->time_s) return found;
  const CellFigures& fewest = study.cells[study.curves[cell.curve].front()];
  for (const auto& [name, phase] : cell.phases) {
    if (!phase.wall_s || *phase.wall_s < told * cell.time_s->median) continue;
    const auto before = fewest.phases.find(name);
    const bool compared = &fewest != &cell && before != fewest.phases.end() && before->second.wall_s;
    const double least = phase.at_once.value_or(1) > 1 ? not_shorter : hardly_shorter;
    const bool stays = compared ? *phase.wall_s > least * *before->second.wall_s : phase.at_once == 1;
    if (!stays || is_of_the_crew(name)) continue;
    found.push_back({name, *phase.wall_s / cell.time_s->median, baseline->time_s->median / *phase.wall_s});
  }
  std::stable_sort(found.begin(), found.end(),
                   [](const PhaseCeiling& a, const PhaseCeiling& b) { return a.share > b.share; });
  return found;
}

std::optional<double> critical_path_of(const CellFigures& cell) {
  std::optional<double> shortest;
  for (const internal::LaneSums& sums : cell.cell->metered) {
    if (sums.critical_path_s > 0 && (!shortest || sums.critical_path_s < *shortest)) shortest = sums.critical_path_s;
  }
  return shortest;
}

}  // namespace antcrew::analysis_layer
