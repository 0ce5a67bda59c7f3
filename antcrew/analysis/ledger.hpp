// Where the worker-seconds of a cell went, with one owner for each second.
//
//   for (const Ledger& ledger : ledgers_of(study, cell)) for (const Loss& loss : ledger.losses) use(loss);
//
// Identity: lanes × wall − the baseline's time = work change + losses + metering + unaccounted; and the same difference
// = Σ loss_s over the losses + unattributed. Pure.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/figures.hpp"
#include "antcrew/analysis/forward.hpp"
#include "antcrew/analysis/layer.hpp"
#include "antcrew/log/lane_sums.hpp"

namespace antcrew::analysis_layer {

using internal::LaneParts;
using internal::LaneState;
using internal::LaneSums;

// What took worker-seconds that the baseline did not need.
enum class Cause {
  sequential_stretch,
  small_pieces,
  small_calls,
  not_divisible,
  uneven_pieces,
  late_start,
  shared_processor,
  oversubscribed,
  quota,
  no_ready_work,
  work_not_found,
  lock_wait,
  slow_stage,
  small_buffer,
  moving_data,
  fresh_memory,
  kernel_time,
  inflation_machine,
  inflation_own,
  inflation_one_worker,
  extra_work,
  skipped_work,
  blocked,
  start_up_each_call,
  network_bandwidth,
  network_latency,
  late_message,
  slow_host,
  allocations,
  threads_per_item,
  line_sharing,
  slower_clocks,
  hardware_threads,
  spinning,
  idle_workers
};
const char* id_of(Cause cause) noexcept;

// Another order of pieces is worth a word when it takes less than this share of the time.
inline constexpr double noticeably_shorter = 0.95;

// What of a loss is lost at one place in the source.
struct LossPlace {
  std::string name;
  double loss_s = 0;
  double saved_s = 0;  // a call is so much shorter once it is mended
  Figures figures = {};
};

struct Loss {
  Cause cause = Cause::sequential_stretch;
  double loss_s = 0;  // worker-seconds; below 0 = saved
  std::string name;   // of the lock, the phase, the stage, the place in the source; empty = none
  Figures figures = {};
  double limit_s = 0;  // a call cannot be shorter than that if this alone is removed; 0 = nothing in its way
  std::vector<LossPlace> places = {};  // of uneven pieces
};

// One metered call.
struct Ledger {
  double wall_s = 0;
  int lanes = 0;
  LaneParts parts_s;         // without what metering took
  double necessary_s = 0;    // the baseline's time, at the speed that the machine had in this call
  double work_change_s = 0;  // running + blocked + serial − that
  double metering_s = 0;
  double unaccounted_s = 0;
  double outside_s = 0;  // CPU time of threads and processes that are in no lane
  double cpu_frames_s = 0;
  double cpu_kernel_s = 0;  // 0 = the kernel was not asked
  std::optional<double> slowdown;
  std::string withheld;       // why the parts mean nothing; empty = they do
  std::vector<Loss> losses;   // the largest first, each cause once
  double unattributed_s = 0;  // below 0: more was attributed than lost
  // No worker count makes a call shorter than the largest of these, as they are: what this one did in turn ("serial"),
  // "critical path", "stage", "lock", "piece"; seconds.
  std::map<std::string, double> floors;
  double floor_s = 0;  // that one,
  std::string floor_by;
  std::optional<double> one_worker_s;  // of the same variant, at this call's speed
  int processors = 1;
  double processors_s = 0;  // nor, on this machine, than its CPU time divided by the processors
  const LaneSums* sums = nullptr;

  double lane_seconds() const noexcept { return lanes * wall_s; }
};

// What a call is compared with.
struct LedgerBasis {
  double baseline_s = 0;                 // T_s
  std::optional<double> baseline_cpu_s;  // of that, on a processor
  double baseline_system_s = 0;
  double baseline_page_faults = 0;
  std::optional<internal::LibraryCounts> baseline_library;
  std::optional<double> one_worker_s;  // W_1: the same variant with one worker
  std::optional<double> crowd;         // c(p)
  std::optional<double> clocks;        // how much longer computing takes when as many processors compute at once
  double memory_bytes_per_s = 0;       // that as many workers read together; 0 = not measured
  double one_bytes_per_s = 0;          // that one worker does
  double wake_s = 0;                   // waking a sleeping thread, and back; 0 = not measured
  double moved_bytes_per_s = 0;        // of this cell, where its bytes are counted
  int cores = 0;                       // of the machine
  std::optional<double> work_ratio;    // a counter that both keep, the variant's / the baseline's
  std::string work_name;               // of that counter
  int processors = 1;                  // that may be used
  double throttled_s = 0;              // of a call, by a quota
  double taken_processors = 0;         // by other programs and the hypervisor meanwhile
  std::string crew;
};

Ledger ledger_of(const LaneSums& sums, const LedgerBasis& basis);
LedgerBasis basis_of(const Analysed& study, const CellFigures& cell);
// Whether an instrumented call took much longer than the timed ones did though its log cost next to nothing: it met
// something that they did not, and is no evidence of what they lose.
bool was_disturbed(const LaneSums& sums, const Cell& cell);
// Of all metered calls of a cell; of those that were not disturbed, where there are such.
std::vector<Ledger> ledgers_of(const Analysed& study, const CellFigures& cell);

}  // namespace antcrew::analysis_layer
