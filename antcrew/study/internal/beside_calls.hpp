// What is tried beside metered calls, without a log: the price of empty calls and forks, the same work with one worker,
// and with all workers on one processor.
#pragma once

#include "antcrew/study/visit.hpp"

namespace antcrew::study_layer {

// 0 = not tried.
struct Visitor::Beside {
  double call_cost_s = 0;
  double piece_cost_s = 0;
  double fork_cost_s = 0;
  double page_fault_s = 0;
  double one_worker_s = 0;
  double spread_cpu_s = 0;
  double one_place_cpu_s = 0;
  double spinning_s = 0;  // CPU time of a call in loops that only wait, in bodies or without a crew
  std::optional<internal::LibraryCounts> memory;

  void tell(internal::LaneSums& sums) const {
    sums.call_cost_s = call_cost_s;
    sums.piece_cost_s = piece_cost_s;
    sums.fork_cost_s = fork_cost_s;
    sums.page_fault_s = page_fault_s;
    sums.one_worker_s = one_worker_s;
    sums.spread_cpu_s = spread_cpu_s;
    sums.one_place_cpu_s = one_place_cpu_s;
    sums.spinning_s = spinning_s;
    sums.memory_counted = memory.has_value() && sums.library.has_value();
    if (!sums.memory_counted) return;
    sums.library->allocations = memory->allocations;
    sums.library->allocated_bytes = memory->allocated_bytes;
    sums.library->allocating_s = memory->allocating_s;
    sums.library->locks = memory->locks;
  }
};

}  // namespace antcrew::study_layer
