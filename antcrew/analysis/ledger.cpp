#include "antcrew/analysis/ledger.hpp"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "antcrew/analysis/internal/owning.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/log/coarse_sums.hpp"

namespace antcrew::analysis_layer {

namespace {

using internal::LockFacts;
using internal::RegionFacts;
using internal::SampleFacts;
using internal::SerialFacts;
using internal::StageFigures;

void floor_by(Ledger& ledger, double seconds, const char* what) {
  if (!(seconds > 0)) return;
  double& known = ledger.floors[what];
  known = std::max(known, seconds);
  if (seconds <= ledger.floor_s) return;
  ledger.floor_s = seconds;
  ledger.floor_by = what;
}

void find_floor(Ledger& ledger, const LaneSums& sums) {
  floor_by(ledger, sums.parts_s[LaneState::serial], "serial");
  floor_by(ledger, sums.critical_path_s, "critical path");
  for (const StageFigures& stage : sums.stages) {
    if (stage.alone) floor_by(ledger, stage.busy_s, "stage");
  }
  for (const LockFacts& lock : sums.locks) floor_by(ledger, lock.hold_s, "lock");
  for (const RegionFacts& region : sums.by_place) {
    // What is forked or begun may fork on.
    const bool loop = region.sharing == "even" || region.sharing == "pieces" || region.sharing == "halves" ||
                      region.sharing == "processes" || region.sharing == "ranks" || region.sharing == "rank pieces";
    if (loop && region.n > 0 && region.n <= region.pieces) floor_by(ledger, region.longest_piece_s, "piece");
  }
}

constexpr double most_apart = 0.1;  // of the lanes' time

std::string reason_to_withhold(const LaneSums& sums, const LedgerBasis& basis) {
  if (!sums.withheld.empty()) return sums.withheld;
  if (sums.looks) {
    // Looks that count what was ready, and not running, tell of the machine.
    const double apart = std::fabs(sums.cpu_frames_s - sums.cpu_kernel_s) - sums.looks->outside * sums.wall_s;
    const double allowed = std::max(most_apart, internal::share_error(*sums.looks)) * sums.lane_seconds();
    if (sums.cpu_kernel_s > 0 && apart > allowed)
      return fmt::format("samples and kernel disagree on its CPU time, {} and {}: shares by samples mean nothing then",
                         duration_text(sums.cpu_frames_s), duration_text(sums.cpu_kernel_s));
    if (sums.looks->lanes >= internal::enough_looks / 3) return {};
    return "it works without a crew, and its calls are too short or too few to be looked at often enough";
  }
  if (basis.crew == "Workers" && sums.regions == 0 && sums.lanes > 1)
    return "it works without a crew, so its threads write down nothing";
  // Starting and ending threads and processes takes some, too: of waiting work that can be most of its CPU time.
  constexpr double most_outside = 0.05;
  // Workers that spin for a moment after their last piece are no strangers; the kernel knows them, if it was asked.
  const double lanes_cpu_s = std::max(sums.cpu_frames_s, sums.cpu_kernel_s);
  constexpr double spinning_s = 100e-6;  // of a worker
  const double outside = sums.cpu_tree_s - lanes_cpu_s - sums.parent_cpu_s - spinning_s * (sums.lanes - 1);
  const double noticed = (sums.calls_outside > 0 ? 0.02 : 0.1) * sums.lane_seconds();
  if (outside > most_outside * sums.cpu_frames_s && outside > noticed)
    return "threads or processes that are in no lane of the crew did part of the work";
  return {};
}

}  // namespace

Ledger ledger_of(const LaneSums& sums, const LedgerBasis& basis) {
  Ledger ledger;
  ledger.sums = &sums;
  ledger.wall_s = sums.wall_s;
  ledger.lanes = sums.lanes;
  ledger.slowdown = sums.slowdown;
  ledger.metering_s = sums.metering_s;
  ledger.cpu_frames_s = sums.cpu_frames_s;
  ledger.cpu_kernel_s = sums.cpu_kernel_s;
  ledger.outside_s = std::max(0.0, sums.cpu_tree_s - sums.cpu_frames_s);
  ledger.necessary_s = basis.baseline_s;
  ledger.one_worker_s = basis.one_worker_s;
  ledger.withheld = reason_to_withhold(sums, basis);
  const double all = sums.lane_seconds();
  const double keep = all > 0 ? 1 - std::min(1.0, sums.metering_s / all) : 1;
  for (std::size_t k = 0; k < internal::lane_states; ++k) ledger.parts_s.seconds[k] = keep * sums.parts_s.seconds[k];
  ledger.unaccounted_s = ledger.parts_s[LaneState::unaccounted];
  ledger.work_change_s = ledger.parts_s[LaneState::running] + ledger.parts_s[LaneState::blocked] +
                         ledger.parts_s[LaneState::serial] - basis.baseline_s;
  find_floor(ledger, sums);
  ledger.processors = std::max(1, basis.processors);
  ledger.processors_s = (ledger.parts_s[LaneState::running] + sums.serial_cpu_s) / ledger.processors;
  internal::Owning(ledger, sums, basis).all();
  return ledger;
}

}  // namespace antcrew::analysis_layer
