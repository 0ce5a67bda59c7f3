#include "tests/losses/plant.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"

namespace planted {

using namespace antcrew::layers;

Seen seen_of(const Record& record, int workers) {
  const Analysed study = analyse(record);
  Seen seen;
  for (const CellFigures& cell : study.cells) {
    if (cell.cell->kind != Cell::Kind::variant || cell.cell->workers != workers) continue;
    seen.withheld = withheld_because(study, cell);
    for (const Finding& f : findings_of(study, cell)) {
      if (f.kind == Finding::Kind::loss) seen.losses.emplace_back(f.id, f.share);
    }
    for (const Ledger& ledger : ledgers_of(study, cell)) {
      double all = ledger.unattributed_s;
      for (const Loss& loss : ledger.losses) all += loss.loss_s;
      const double other = ledger.lane_seconds() - ledger.necessary_s;
      seen.identity = std::max(seen.identity, std::fabs(all - other) / ledger.lane_seconds());
      seen.unaccounted = ledger.unaccounted_s / ledger.lane_seconds();
      seen.cpu_frames_s = ledger.cpu_frames_s;
      seen.cpu_kernel_s = ledger.cpu_kernel_s;
      seen.slowdown = ledger.slowdown.value_or(0);
    }
    for (const Fault& fault : cell.cell->faults) seen.withheld += " fault: " + fault.text;
  }
  return seen;
}

std::string wrong_with(const Plant& plant, const Seen& seen) {
  constexpr double points = 0.05;
  if (seen.identity > 0.001) return fmt::format("the sums differ by {:.1f} %", 100 * seen.identity);
  if (plant.losses.empty()) {
    return seen.losses.empty() ? ""
                               : fmt::format("found {} of {:.1f} %", seen.losses[0].first, 100 * seen.losses[0].second);
  }
  for (std::size_t k = 0; k < plant.losses.size(); ++k) {
    if (k >= seen.losses.size()) return "nothing found but " + std::to_string(k) + " losses; " + seen.withheld;
    if (seen.losses[k].first != plant.losses[k])
      return fmt::format("found {} of {:.1f} % in place {}", seen.losses[k].first, 100 * seen.losses[k].second, k + 1);
  }
  if (plant.share && std::fabs(*plant.share - seen.losses[0].second) > points)
    return fmt::format("found {:.1f} %, planted {:.1f} %", 100 * seen.losses[0].second, 100 * *plant.share);
  return {};
}

std::vector<Plant> all_plants() {
  std::vector<Plant> all;
  for (const auto& some : {thread_plants(), task_plants(), process_plants(), hand_plants(), library_plants(),
                           healthy_plants(), plants_of_two()})
    all.insert(all.end(), some.begin(), some.end());
  return all;
}

}  // namespace planted
