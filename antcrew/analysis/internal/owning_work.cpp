// Seconds that the work itself took more than the baseline does, or less.
#include "antcrew/analysis/internal/owning.hpp"

namespace antcrew::internal {

// In this order, each capped by what is left.
void Owning::work_change() {
  const double blocked_s = part(LaneState::blocked) + part(LaneState::serial) - scale_ * sums_.serial_cpu_s;
  const double base_cpu_s = basis_.baseline_cpu_s.value_or(basis_.baseline_s);
  const double base_blocked_s = std::max(0.0, basis_.baseline_s - base_cpu_s);
  double left = ledger_.work_change_s;
  if (basis_.work_ratio) {
    const double more_s = (*basis_.work_ratio - 1) * basis_.baseline_s;
    if (more_s < 0) {
      lose(Cause::skipped_work, more_s, basis_.work_name).figures = {{"ratio", *basis_.work_ratio}};
      left -= more_s;
    } else if (more_s > 0 && left > 0) {
      lose(Cause::extra_work, std::min(left, more_s), basis_.work_name).figures = {{"ratio", *basis_.work_ratio}};
      left -= std::min(left, more_s);
    }
  }
  less_waiting(base_blocked_s - blocked_s, base_blocked_s, left);
  // More work waits more, too.
  const double more_blocked_s =
      std::min(blocked_s - base_blocked_s * basis_.work_ratio.value_or(1), std::max(0.0, left));
  if (more_blocked_s > 0) {
    Loss& loss = lose(Cause::blocked, more_blocked_s);
    loss.figures = {{"blocked_s", blocked_s}, {"baseline_blocked_s", base_blocked_s}};
    as_if_all_did_all(loss);
    if (sums_.looks) {
      for (const auto& [what, seconds] : sums_.looks->blocked_s) loss.figures.set_made(what + "_s", seconds);
    }
    left -= more_blocked_s;
  }
  const double slower_s = std::min(std::max(0.0, left), scale_ * ranks_.slow.computing_s);
  if (slower_s > 0) slow_host(slower_s);
  left -= slower_s;
  if (const double threads_s = std::min(std::max(0.0, left), threads_s_); threads_s > 0) {
    lose(Cause::threads_per_item, threads_s);
    left -= threads_s;
  }
  if (const double spinning_s = std::min(std::max(0.0, left), scale_ * sums_.spinning_s); spinning_s > 0) {
    lose(Cause::spinning, spinning_s).figures = {{"spinning_s", sums_.spinning_s}};
    left -= spinning_s;
  }
  double pieces = 0;
  for (const RegionFacts& region : sums_.by_place) pieces += region.pieces;
  const double pieces_s = std::min(std::max(0.0, left), pieces * sums_.piece_cost_s + sums_.forks * sums_.fork_cost_s);
  if (pieces_s > 0) {
    lose(Cause::small_pieces, pieces_s).figures = {{"pieces", pieces},
                                                   {"piece_cost_s", sums_.piece_cost_s},
                                                   {"forks", sums_.forks},
                                                   {"fork_cost_s", sums_.fork_cost_s}};
    left -= pieces_s;
  }
  left -= more_allocations(left);
  // Ranks' time in the kernel is mostly messages.
  const double more_system_s = sums_.ranks ? 0 : sums_.system_s - basis_.baseline_system_s;
  const double system_s = std::clamp(more_system_s, 0.0, std::max(0.0, left));
  in_the_kernel(system_s);
  left -= system_s;
  if (!(left > 0)) return;
  if (basis_.one_worker_s) {
    const double already = std::min(left, std::max(0.0, *basis_.one_worker_s - basis_.baseline_s));
    if (already > 0) {
      lose(Cause::inflation_one_worker, already).figures = {{"one_worker_s", *basis_.one_worker_s},
                                                            {"baseline_s", basis_.baseline_s}};
      if (sums_.library && !sums_.memory_counted) ledger_.losses.back().figures["not_counted"] = 1;
      left -= already;
    }
  }
  const double one_s = basis_.one_worker_s.value_or(basis_.baseline_s);
  left -= slower_processors(left, one_s);
  left -= shared_lines(left);
  if (!(left > 0)) return;
  const double running_s = part(LaneState::running) + scale_ * sums_.serial_cpu_s;
  lose(Cause::inflation_own, left).figures = {{"cpu_s", running_s}, {"expected_cpu_s", running_s - left}};
  as_if_all_did_all(ledger_.losses.back());
  if (sums_.library && !sums_.memory_counted) ledger_.losses.back().figures["not_counted"] = 1;
  if (basis_.crowd) ledger_.losses.back().figures["crowd"] = *basis_.crowd;
  if (basis_.one_worker_s) ledger_.losses.back().figures["one_worker_s"] = *basis_.one_worker_s;
  if (sums_.one_place_cpu_s > 0.95 * sums_.spread_cpu_s) {
    ledger_.losses.back().figures["spread_cpu_s"] = sums_.spread_cpu_s;
    ledger_.losses.back().figures["one_place_cpu_s"] = sums_.one_place_cpu_s;
  }
}

// What the allocator takes more than in the baseline, waits for each other inside it included.
double Owning::more_allocations(double left) {
  if (!(left > 0) || !sums_.library || !sums_.memory_counted || !basis_.baseline_library) return 0;
  const LibraryCounts& counts = *sums_.library;
  const LibraryCounts& base = *basis_.baseline_library;
  const double inside_s = scale_ * (counts.allocating_s - base.allocating_s);
  if (!(inside_s > 0) || counts.allocations <= base.allocations) return 0;
  // What is allocated is filled, too: as fast as memory at most takes it.
  const double more_bytes = std::max(0.0, counts.allocated_bytes - base.allocated_bytes);
  const double filling_s = basis_.one_bytes_per_s > 0 ? scale_ * more_bytes / basis_.one_bytes_per_s : 0;
  const double seconds = std::min(left, inside_s + filling_s);
  lose(Cause::allocations, seconds).figures = {{"allocations", counts.allocations},
                                               {"allocated_bytes", counts.allocated_bytes},
                                               {"allocating_s", counts.allocating_s},
                                               {"baseline_allocations", base.allocations},
                                               {"filling_s", seconds - std::min(seconds, inside_s)},
                                               {"lanes", ledger_.lanes}};
  return seconds;
}

// The machine: processors that compute more slowly when several do, and beyond that its memory, as far as copies of the
// baseline slow each other. Without copies the clocks alone are known.
double Owning::slower_processors(double left, double one_s) {
  constexpr double noticed = 1.05;
  if (!(left > 0)) return 0;
  double machine_s = basis_.crowd ? std::min(left, std::max(0.0, *basis_.crowd - 1) * one_s) : 0;
  double clocks_s = 0;
  if (basis_.clocks && *basis_.clocks > noticed) {
    clocks_s = std::min(basis_.crowd ? machine_s : left, (*basis_.clocks - 1) * one_s);
    const bool threads = basis_.cores > 0 && ledger_.lanes > basis_.cores && basis_.processors > basis_.cores;
    if (clocks_s > 0) {
      Loss& loss = lose(threads ? Cause::hardware_threads : Cause::slower_clocks, clocks_s);
      loss.figures = {{"ratio", *basis_.clocks}, {"lanes", std::min(ledger_.lanes, basis_.processors)}};
      loss.figures["cores"] = basis_.cores;
      if (basis_.crowd) loss.figures["crowd"] = *basis_.crowd;
    }
  }
  machine_s = std::max(0.0, machine_s - clocks_s);
  if (machine_s > 0) {
    Loss& loss = lose(Cause::inflation_machine, machine_s);
    loss.figures = {{"crowd", *basis_.crowd}};
    if (basis_.memory_bytes_per_s > 0) loss.figures["memory_bytes_per_s"] = basis_.memory_bytes_per_s;
    if (basis_.moved_bytes_per_s > 0) loss.figures["bytes_per_s"] = basis_.moved_bytes_per_s;
  }
  return clocks_s + machine_s;
}

// What the same work takes less when all workers are on one processor, where no line of a cache moves.
double Owning::shared_lines(double left) {
  constexpr double noticed = 0.05;
  const double less_s = sums_.spread_cpu_s - sums_.one_place_cpu_s;
  if (!(sums_.one_place_cpu_s > 0) || less_s < noticed * sums_.spread_cpu_s) return 0;
  // Nor does anybody meet another one at a lock there.
  constexpr double taking_turns = 0.02;
  if (part(LaneState::lock) > taking_turns * ledger_.lane_seconds()) return 0;
  const double seconds = std::min(left, scale_ * less_s);
  if (!(seconds > 0)) return 0;
  Loss& loss = lose(Cause::line_sharing, seconds);
  loss.figures = {{"spread_cpu_s", sums_.spread_cpu_s}, {"one_place_cpu_s", sums_.one_place_cpu_s}};
  if (basis_.crowd) loss.figures["crowd"] = *basis_.crowd;
  return seconds;
}

// Fresh memory, as far as page faults and their measured price explain it; older records counted none.
void Owning::in_the_kernel(double system_s) {
  if (!(system_s > 0)) return;
  // Several workers at once wait for each other there, and memory that a host has yet to give takes longer.
  constexpr double dearer = 4;
  const double faults = std::max(0.0, sums_.page_faults - basis_.baseline_page_faults);
  const double explained_s =
      sums_.page_fault_s > 0 ? std::min(system_s, dearer * faults * sums_.page_fault_s) : system_s;
  const Figures figures{{"system_s", sums_.system_s},
                        {"baseline_system_s", basis_.baseline_system_s},
                        {"page_faults", sums_.page_faults},
                        {"page_fault_s", sums_.page_fault_s}};
  if (explained_s > 0) lose(Cause::fresh_memory, explained_s).figures = figures;
  double rest_s = system_s - explained_s;
  // Who waits for a lock goes into the kernel to sleep, and whoever has it to wake it.
  double waits = 0;
  for (const LockFacts& lock : sums_.locks) waits += lock.waits;
  if (const double turns_s = std::min(rest_s, waits * basis_.wake_s); turns_s > 0) {
    lose(Cause::lock_wait, turns_s).figures["turns_s"] = turns_s;
    rest_s -= turns_s;
  }
  if (!(rest_s > 0)) return;
  // Of processes it is their forks and ends.
  if (basis_.crew == "ProcessCrew") {
    lose(Cause::start_up_each_call, rest_s);
  } else {
    lose(Cause::kernel_time, rest_s).figures = figures;
  }
}

// Bodies that wait far less than the baseline, which mostly waits, leave some of that out, or do it elsewhere. What
// computes less may be the caches' doing.
void Owning::less_waiting(double less_s, double base_blocked_s, double& left) {
  constexpr double mostly = 0.5;
  constexpr double far_less = 0.25;
  if (sums_.looks || !(sums_.regions > 0) || basis_.work_ratio || base_blocked_s < mostly * basis_.baseline_s) return;
  if (less_s < far_less * basis_.baseline_s) return;
  lose(Cause::skipped_work, -less_s).figures = {{"blocked_s", base_blocked_s - less_s},
                                                {"baseline_blocked_s", base_blocked_s}};
  left += less_s;
}

// Where the work is as many times the baseline's as there are workers, each of them may have done all of it.
void Owning::as_if_all_did_all(Loss& loss) const {
  constexpr double nearly = 0.05;
  if (ledger_.lanes < 2 || !(basis_.baseline_s > 0)) return;
  const double times = 1 + ledger_.work_change_s / basis_.baseline_s;
  if (std::fabs(times - ledger_.lanes) <= nearly * ledger_.lanes) loss.figures["as_if_all_did_all"] = ledger_.lanes;
}

}  // namespace antcrew::internal
