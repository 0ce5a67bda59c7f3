// Where the worker-seconds of one call went: a log, added up.
//
//   LaneSums sums = sums_of(book.log());
//   sums.parts_s[LaneState::lock] / (sums.lanes * sums.wall_s);
//
// Every moment of every lane is in one state; the parts add up to lanes × wall. Pure arithmetic.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/log/lane_log.hpp"
#include "antcrew/log/lane_parts.hpp"
#include "antcrew/log/library_calls.hpp"
#include "antcrew/log/timeline.hpp"

namespace antcrew::internal {

// Why the last worker of a flat loop was the last: its excess over the others, cause by cause.
struct ImbalanceCauses {
  double late_s = 0;    // it began later
  double shared_s = 0;  // it waited for a processor
  double lock_s = 0;
  double uneven_s = 0;     // its pieces took longer
  double divisible_s = 0;  // it had more of them, as their number does not divide by the workers
  double sum() const noexcept { return late_s + shared_s + lock_s + uneven_s + divisible_s; }
  friend bool operator==(const ImbalanceCauses&, const ImbalanceCauses&) = default;
};

// All regions that one place in the source began.
struct RegionFacts {
  std::string place;    // "tides.cpp:41"; empty = not known
  std::string sharing;  // "even", "pieces", "halves", "forks", "group", "graph", "stages", "processes",
                        // "ranks", "rank pieces"
  std::int64_t calls = 0;
  double n = 0;  // items, of all calls
  double pieces = 0;
  double stolen = 0;  // of the pieces
  double wall_s = 0;
  double body_s = 0;  // lane-seconds in bodies
  double dispatch_s = 0;
  double late_s = 0;  // of dispatch: before a lane's first piece
  double no_work_s = 0;
  double imbalance_s = 0;
  ImbalanceCauses causes;  // add up to imbalance_s
  double longest_piece_s = 0;
  double longest_piece_at = 0;  // the index of its first item
  int longest_piece_lane = 0;
  double mean_piece_s = 0;
  double finer_s = 0;     // the wall time of the same pieces, cut finer and taken on demand
  double tapering_s = 0;  // the same, heaviest first

  friend bool operator==(const RegionFacts&, const RegionFacts&) = default;
};

struct SerialFacts {
  std::string after;   // the place of the region before; empty = the call's start
  std::string before;  // of the one after; empty = the call's end
  std::string phase;
  double seconds = 0;
  std::int64_t count = 0;

  friend bool operator==(const SerialFacts&, const SerialFacts&) = default;
};

struct LockFacts {
  std::string name;
  double waits = 0;
  double wait_s = 0;
  double holds = 0;
  double hold_s = 0;       // all of them; from a sample where they are short
  double hold_off_s = 0;   // of that, its holder was on no processor
  std::string place = {};  // of who waits, for a lock of the C library: "tides.cpp:41"; empty = not known

  friend bool operator==(const LockFacts&, const LockFacts&) = default;
};

struct StageFigures {
  std::string name;
  bool alone = false;
  double busy_s = 0;
  double items = 0;
  double waited_s = 0;  // lane-seconds that it cost others

  friend bool operator==(const StageFigures&, const StageFigures&) = default;
};

// What the sums of a call without a crew rest on: looks at its threads from outside.
struct SampleFacts {
  double moments = 0;       // at which it was looked
  double lanes = 0;         // lanes that were seen, all moments together
  double own_share = 0;     // what sampling took of one processor while the calls ran
  double threads = 0;       // alive at a moment, the mean; more than lanes are outside
  double outside = 0;       // of those, busy and in no lane
  double processors = 0;    // in use by lanes at a moment, the mean
  bool refused = false;     // the kernel did not tell what sleeping threads waited for
  double lock_waiters = 0;  // lanes that waited for the busiest lock while anybody did, the mean
  double lock_kinds = 0;    // different locks that were waited for
  double most_there = 0;    // threads and processes there at once, at most, without a caller that waits; 0 = not noted
  double standing = 0;      // of the lanes idle beside a lone caller: threads that stood by, as a share
  // What blocked lanes waited for: "sleep", "input", "page", "not told"; lane-seconds of a call.
  std::map<std::string, double> blocked_s;

  friend bool operator==(const SampleFacts&, const SampleFacts&) = default;
};

struct LaneSums {
  double wall_s = 0;
  int lanes = 0;
  LaneParts parts_s;
  double plain_s = 0;              // of the call without a log beside it; 0 = there was none
  std::optional<double> slowdown;  // of a call by its log: the median over the visit, − 1
  double metering_s = 0;           // of the parts, as the cost of writing down suggests
  double cpu_frames_s = 0;         // by frames
  double cpu_kernel_s = 0;         // of the same lanes, by the kernel; 0 = not known
  double parent_cpu_s = 0;         // of the parent of worker processes, during regions
  double calls_outside = 0;        // of crews, by threads that are in no lane
  double cpu_tree_s = 0;           // of the process and all below it
  double system_s = 0;             // of that, in the kernel
  double page_faults = 0;          // of the same, that read nothing from a disk
  double page_fault_s = 0;         // what one takes on this machine, single-threaded; 0 = not measured
  double serial_cpu_s = 0;
  double moved_bytes = 0;
  double buffer_full_s = 0;  // of stage: for room
  double source_s = 0;       // of stage: for the source
  double events = 0;
  double regions = 0;
  double call_cost_s = 0;      // of an empty region with as many workers; 0 = not measured
  double piece_cost_s = 0;     // handing out an empty piece
  double forks = 0;            // in two, of tasks
  double fork_cost_s = 0;      // of an empty one, of workers' time
  double short_regions_s = 0;  // wall time of regions under 20 µs
  std::string withheld;        // why the parts mean nothing; empty = they do
  bool delay_known = true;     // waiting_to_run is told apart from blocked
  std::vector<double> lane_body_s;
  std::vector<RegionFacts> by_place;
  std::vector<SerialFacts> serials;
  std::vector<LockFacts> locks;
  std::vector<StageFigures> stages;
  std::map<std::string, LaneParts> phases;
  std::optional<SampleFacts> looks;      // of the coarse form
  std::optional<Timeline> timeline;      // of one of a cell's calls
  std::optional<RankFacts> ranks;        // where workers are ranks
  std::optional<LibraryCounts> library;  // empty = not counted
  bool memory_counted = false;           // of these: allocations
  double thread_cost_s = 0;              // of beginning an empty thread and waiting for its end, on this machine
  // Tried beside the metered calls; 0 = not tried.
  double one_worker_s = 0;     // of a call with one worker, where no cell of the study has one
  double spread_cpu_s = 0;     // CPU time of a call, its workers on the processors that they like,
  double one_place_cpu_s = 0;  // and of one with all of them on one processor: no line of a cache moves
  double spinning_s = 0;       // CPU time of a call in loops that only wait, in bodies or without a crew; 0 = not seen
  double critical_path_s = 0;  // of tasks and graphs: no number of workers makes the call shorter; 0 = not known

  double lane_seconds() const noexcept { return lanes * wall_s; }
  friend bool operator==(const LaneSums&, const LaneSums&) = default;
};

LaneSums sums_of(const LaneLog& log);

}  // namespace antcrew::internal
