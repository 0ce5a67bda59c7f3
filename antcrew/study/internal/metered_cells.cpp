#include "antcrew/study/internal/metered_cells.hpp"

#include <algorithm>
#include <map>
#include <string>

#include "antcrew/analysis/verdict.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::internal {

bool works_without_a_crew(const std::string& crew, int workers) {
  return workers > 1 && crew != "ThreadCrew" && crew != "TaskCrew" && crew != "ProcessCrew" && crew != "StandingCrew" &&
         crew != "RankCrew";
}

double beside_calls_s(const std::string& crew, int workers) {
  return crew == "RankCrew" ? launching_s : works_without_a_crew(crew, workers) ? looking_s : 0;
}

std::vector<std::size_t> cells_to_meter(const Record& record, const std::vector<Running>& block, Metering which) {
  std::map<std::string, int> most;
  const Cell* fastest = nullptr;
  const auto cell_at = [&](std::size_t i) -> const Cell& { return record.cells[block[i].index]; };
  const auto can = [&](const Cell& cell) {
    return !cell.trials.empty() && cell.faults.empty() && cell.metered.empty();
  };
  for (std::size_t i = 0; i < block.size(); ++i) {
    const Cell& cell = cell_at(i);
    if (!can(cell) || cell.kind != Cell::Kind::variant) continue;
    int& workers = most[cell.key()];
    workers = std::max(workers, cell.workers);
    if (fastest == nullptr || median_of(cell, &Trial::wall_s) < median_of(*fastest, &Trial::wall_s)) fastest = &cell;
  }
  std::vector<std::size_t> order;
  for (std::size_t i = 0; i < block.size(); ++i) {
    const Cell& cell = cell_at(i);
    if (!can(cell) || cell.kind == Cell::Kind::probe) continue;
    const bool baseline = cell.kind == Cell::Kind::baseline;
    if (baseline && record.commands) continue;  // of a command its trials tell as much
    if (baseline || which == Metering::all || &cell == fastest || cell.workers == most[cell.key()]) order.push_back(i);
  }
  std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
    const auto rank = [&](std::size_t i) {
      const Cell& cell = cell_at(i);
      if (cell.kind == Cell::Kind::baseline) return -2.0;
      if (&cell == fastest) return -1.0;
      return cell.trials.back().wall_s + beside_calls_s(cell.crew, cell.workers);
    };
    return rank(a) < rank(b);
  });
  return order;
}

}  // namespace antcrew::internal
