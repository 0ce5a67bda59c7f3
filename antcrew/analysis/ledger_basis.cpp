// What a cell's ledger is compared with, found in an analysed study.
#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/ledger.hpp"
#include "antcrew/analysis/rank_hosts.hpp"
#include "antcrew/analysis/taken_processors.hpp"
#include "antcrew/log/phase.hpp"

namespace antcrew::analysis_layer {

namespace {

// A counter of the work that baseline and variant both keep: the one that changed most.
void find_work_ratio(const CellFigures& cell, const CellFigures& baseline, LedgerBasis& basis) {
  for (const auto& [name, value] : cell.counters) {
    if (name == internal::bytes_moved || name == internal::unwaited_work) continue;
    const auto same = baseline.counters.find(name);
    if (same == baseline.counters.end() || !(same->second > 0)) continue;
    const double ratio = value / same->second;
    if (basis.work_ratio && std::fabs(ratio - 1) <= std::fabs(*basis.work_ratio - 1)) continue;
    basis.work_ratio = ratio;
    basis.work_name = name;
  }
}

// Beside the metered calls, as no cell of the study has one worker.
std::optional<double> tried_with_one_worker(const Cell& cell) {
  std::vector<double> times;
  for (const LaneSums& sums : cell.metered) {
    if (sums.one_worker_s > 0) times.push_back(sums.one_worker_s);
  }
  return times.empty() ? std::nullopt : std::optional<double>(median(times));
}

// What was measured of the machine with about as many workers: the count next above it, or all processors.
void find_together(const Record& record, const CellFigures& cell, LedgerBasis& basis) {
  const TogetherFacts* alone = nullptr;
  const TogetherFacts* all = nullptr;
  for (const TogetherFacts& facts : record.together) {
    if (facts.workers == 1) alone = &facts;
    if (all == nullptr || all->workers < cell.cell->workers) all = &facts;
  }
  if (!record.yardstick.wake_s.empty()) basis.wake_s = median(record.yardstick.wake_s);
  basis.cores = record.machine.topology.physical_cores;
  if (alone == nullptr || all == nullptr || !(alone->arithmetic_s > 0)) return;
  basis.memory_bytes_per_s = all->bytes_per_s;
  basis.one_bytes_per_s = alone->bytes_per_s;
  if (taken_processors(record, *cell.cell) < much_taken)
    basis.clocks = std::max(1.0, all->arithmetic_s / alone->arithmetic_s);
  const auto bytes = cell.quantities.find("bytes");
  if (bytes != cell.quantities.end() && cell.time_s && cell.time_s->median > 0)
    basis.moved_bytes_per_s = bytes->second / cell.time_s->median;
}

}  // namespace

LedgerBasis basis_of(const Analysed& study, const CellFigures& cell) {
  const Record& record = *study.record;
  LedgerBasis basis;
  basis.crew = cell.cell->crew;
  basis.processors = processors_of(record, *cell.cell);
  const CellFigures* baseline = cell.baseline < 0 ? nullptr : &study.cells[static_cast<std::size_t>(cell.baseline)];
  const Cell* base_cell = baseline == nullptr ? nullptr : baseline->cell;
  if (baseline != nullptr && baseline->time_s) {
    basis.baseline_s = baseline->time_s->median;
    std::vector<double> walls;
    std::vector<double> cpu;
    std::vector<double> system;
    std::vector<double> faults;
    for (const LaneSums& sums : base_cell->metered) {
      if (sums.library && sums.memory_counted) basis.baseline_library = sums.library;
      walls.push_back(sums.wall_s);
      cpu.push_back(sums.serial_cpu_s);
      system.push_back(sums.system_s);
      faults.push_back(sums.page_faults);
    }
    if (!walls.empty()) {
      basis.baseline_cpu_s = basis.baseline_s * std::min(1.0, median(cpu) / median(walls));
      basis.baseline_system_s = median(system);
      basis.baseline_page_faults = median(faults);
    } else {
      basis.baseline_cpu_s = std::min(basis.baseline_s, median_cpu_s(*base_cell).value_or(basis.baseline_s));
      basis.baseline_system_s = median_where_known(*base_cell, [](const Trial& t) { return t.system_s; }).value_or(0);
      basis.baseline_page_faults = median_a_call(*base_cell, &Trial::faults_minor).value_or(0);
    }
    find_work_ratio(cell, *baseline, basis);
  }
  const CellFigures& fewest = study.cells[study.curves[cell.curve].front()];
  if (fewest.cell->workers == 1 && fewest.time_s) basis.one_worker_s = fewest.time_s->median;
  find_together(record, cell, basis);
  basis.taken_processors = taken_processors(record, *cell.cell);
  if (!basis.one_worker_s) basis.one_worker_s = tried_with_one_worker(*cell.cell);
  for (const CrowdFigure& crowd : study.crowds) {
    // Copies that wait for each other's processors tell nothing of memory.
    if (taken_processors(record, *cell.cell) >= much_taken) break;
    if (crowd.point == cell.cell->point &&
        crowd.copies == std::min(cell.cell->workers, record.machine.usable_processors()))
      basis.crowd = crowd.slowdown.claimed ? std::max(1.0, crowd.slowdown.median) : 1.0;
  }
  if (const auto throttled = median_where_known(*cell.cell, [](const Trial& t) { return t.throttled_s; }))
    basis.throttled_s = *throttled;
  return basis;
}

namespace {

// How much slower the machine was in this call than in the timed ones: metered calls are made at another time, and the
// baseline would have taken as much longer. What waits does not depend on it, and beyond a factor of two it is no
// speed.
double slower_machine(const LaneSums& sums, const CellFigures& cell) {
  if (!cell.time_s || !(cell.time_s->median > 0) || cell.busy_processors.value_or(0) < 0.5) return 1;
  double ratio = sums.wall_s / cell.time_s->median;
  // A call that took longer without computing longer waited: the machine was not slower.
  if (const auto cpu_s = median_cpu_s(*cell.cell); cpu_s && *cpu_s > 0 && ratio > 1)
    ratio = std::min(ratio, std::max(1.0, sums.cpu_tree_s / *cpu_s));
  return ratio > 0.5 && ratio < 2 ? ratio : 1;
}

LedgerBasis at_speed(LedgerBasis basis, double slower) {
  basis.baseline_s *= slower;
  basis.baseline_system_s *= slower;
  if (basis.baseline_cpu_s) *basis.baseline_cpu_s *= slower;
  if (basis.one_worker_s) *basis.one_worker_s *= slower;
  if (basis.baseline_library) basis.baseline_library->allocating_s *= slower;
  return basis;
}

}  // namespace

bool was_disturbed(const LaneSums& sums, const Cell& cell) {
  constexpr double much_longer = 1.25;
  constexpr double noticed = 0.01;  // of the lanes' time: a log that costs less slows nothing
  if (cell.trials.size() < 3 || sums.metering_s > noticed * sums.lane_seconds()) return false;
  // Calls without a log right beside it took less: that is the log.
  if (sums.slowdown && *sums.slowdown > much_longer - 1) return false;
  std::vector<double> times;
  for (const Trial& trial : cell.trials) times.push_back(trial.wall_s);
  std::sort(times.begin(), times.end());
  // A machine that computes more slowly slows the baseline as much, which is made up for.
  double slower = 1;
  if (const auto cpu_s = median_cpu_s(cell); cpu_s && *cpu_s > 0)
    slower = std::clamp(sums.cpu_tree_s / *cpu_s, 1.0, 2.0);
  // What a quarter of the timed ones took, too, is nothing out of the ordinary.
  return sums.wall_s > std::max(much_longer * slower * median(times), times[times.size() * 3 / 4]);
}

std::vector<Ledger> ledgers_of(const Analysed& study, const CellFigures& cell) {
  std::vector<Ledger> ledgers;
  if (cell.cell->metered.empty()) return ledgers;
  const LedgerBasis basis = basis_of(study, cell);
  if (!(basis.baseline_s > 0)) return ledgers;
  const auto undisturbed = std::count_if(cell.cell->metered.begin(), cell.cell->metered.end(),
                                         [&](const LaneSums& sums) { return !was_disturbed(sums, *cell.cell); });
  for (const LaneSums& sums : cell.cell->metered) {
    if (undisturbed > 0 && was_disturbed(sums, *cell.cell)) continue;
    ledgers.push_back(ledger_of(sums, at_speed(basis, slower_machine(sums, cell))));
    Ledger& made = ledgers.back();
    if (!made.slowdown && cell.time_s && cell.time_s->median > 0) made.slowdown = made.wall_s / cell.time_s->median - 1;
  }
  return ledgers;
}

}  // namespace antcrew::analysis_layer
