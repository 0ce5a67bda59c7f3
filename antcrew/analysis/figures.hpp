// The figures that a finding rests on: numbers by name. Names come from one list, and one that is not in it does not
// compile, wherever it is written or read.
//
//   finding.figures["wait_s"] = 0.25;
//   finding.figures.get("wait_s");       // 0 where there is none
//   finding.figures["wiat_s"];           // does not compile
//
// Seconds end in _s, bytes in _bytes, shares are fractions.
#pragma once

#include <algorithm>
#include <concepts>
#include <initializer_list>
#include <iterator>
#include <map>
#include <string>
#include <string_view>
#include <utility>

#include "antcrew/analysis/layer.hpp"

namespace antcrew::analysis_layer {

// Alphabetically.
inline constexpr std::string_view figure_names[] = {"after",
                                                    "allocated_bytes",
                                                    "allocating_s",
                                                    "allocations",
                                                    "another_study",
                                                    "as_if_all_did_all",
                                                    "asked_width",
                                                    "asleep",
                                                    "awaited",
                                                    "baseline_allocations",
                                                    "baseline_blocked_s",
                                                    "baseline_bytes",
                                                    "baseline_s",
                                                    "baseline_system_s",
                                                    "before",
                                                    "beginning_s",
                                                    "blocked_s",
                                                    "busy_before",
                                                    "busy_processors",
                                                    "busy_s",
                                                    "bytes",
                                                    "bytes_per_s",
                                                    "bytes_per_worker",
                                                    "cache_bytes",
                                                    "call_cost_s",
                                                    "calls",
                                                    "coarse",
                                                    "coherency",
                                                    "cold_cost_s",
                                                    "contention",
                                                    "cores",
                                                    "cpu_s",
                                                    "crowd",
                                                    "delay_share",
                                                    "empty_s",
                                                    "enough",
                                                    "expected_cpu_s",
                                                    "fast_s",
                                                    "fast_trials",
                                                    "fastest",
                                                    "filling_s",
                                                    "finer_s",
                                                    "first_speedup",
                                                    "fits_workers",
                                                    "fork_cost_s",
                                                    "forks",
                                                    "from_bytes",
                                                    "from_size",
                                                    "heaviest_first_s",
                                                    "held_trials",
                                                    "hold_s",
                                                    "holder_asleep_s",
                                                    "holder_ready_s",
                                                    "holds",
                                                    "in_place_s",
                                                    "input_s",
                                                    "intervals",
                                                    "items",
                                                    "joint_speedup",
                                                    "lanes",
                                                    "launched",
                                                    "least_bytes_per_worker",
                                                    "level",
                                                    "link_s",
                                                    "locks",
                                                    "longest_piece_at",
                                                    "longest_piece_s",
                                                    "longest_piece_worker",
                                                    "looks",
                                                    "losses",
                                                    "mean_piece_s",
                                                    "memory_bytes_per_s",
                                                    "message_s",
                                                    "messages",
                                                    "more_workers",
                                                    "most_bytes_per_worker",
                                                    "most_there",
                                                    "never_called",
                                                    "not told_s",
                                                    "not_counted",
                                                    "of_library",
                                                    "of_place_s",
                                                    "one_place_cpu_s",
                                                    "one_worker_s",
                                                    "one_worker_speedup",
                                                    "other_places_s",
                                                    "other_processors",
                                                    "others_share",
                                                    "overlap_s",
                                                    "page_fault_s",
                                                    "page_faults",
                                                    "page_s",
                                                    "part_high_s",
                                                    "part_low_s",
                                                    "part_s",
                                                    "part_share",
                                                    "paused",
                                                    "piece_cost_s",
                                                    "pieces",
                                                    "places",
                                                    "processors",
                                                    "quota_processors",
                                                    "rank",
                                                    "ranks",
                                                    "ratio",
                                                    "read_speedup",
                                                    "region_s",
                                                    "reported_s",
                                                    "round_trip_s",
                                                    "scale",
                                                    "serial_fraction",
                                                    "serial_s",
                                                    "shared_trials",
                                                    "sleep_s",
                                                    "slow_s",
                                                    "slow_trials",
                                                    "slower_at_most",
                                                    "slowest_rank",
                                                    "small_losses_share",
                                                    "speedup",
                                                    "speedup_by_cpu",
                                                    "speedup_by_means",
                                                    "spinning_s",
                                                    "spread_cpu_s",
                                                    "standing",
                                                    "startup_s",
                                                    "steal_share",
                                                    "step_s",
                                                    "stretch_s",
                                                    "stretches",
                                                    "system_s",
                                                    "tail_s",
                                                    "taken_processors",
                                                    "thread_cost_s",
                                                    "threads",
                                                    "throttled_s",
                                                    "time_s",
                                                    "timed_s",
                                                    "to_bytes",
                                                    "to_size",
                                                    "trials",
                                                    "turns_s",
                                                    "units",
                                                    "wait_s",
                                                    "waiters",
                                                    "waiting_share",
                                                    "waits",
                                                    "wall_s",
                                                    "wide_intervals",
                                                    "widest",
                                                    "workers"};

// Of that list, checked where it is written.
class FigureName {
 public:
  consteval FigureName(const char* name) : text_(name) {
    const bool listed = std::binary_search(std::begin(figure_names), std::end(figure_names), std::string_view(name));
    if (!listed) throw "there is no figure of this name: add it to figure_names";
  }
  const char* text() const noexcept { return text_; }

 private:
  const char* text_;
};

class Figures {
 public:
  using key_type = std::string;
  using mapped_type = double;
  struct One {
    template <class T>
    One(FigureName its_name, T its_value) : name(its_name), value(static_cast<double>(its_value)) {}
    FigureName name;
    double value;
  };

  Figures() = default;
  Figures(std::initializer_list<One> all) {
    for (const One& one : all) values_[one.name.text()] = one.value;
  }

  double& operator[](FigureName name) { return values_[name.text()]; }
  bool has(FigureName name) const { return values_.find(name.text()) != values_.end(); }
  double get(FigureName name, double otherwise = 0) const {
    const auto found = values_.find(name.text());
    return found == values_.end() ? otherwise : found->second;
  }
  // A name that is made of what was seen: of a rank of processors, of a way of waiting.
  void set_made(std::string name, double value) { values_[std::move(name)] = value; }

  bool empty() const noexcept { return values_.empty(); }
  auto begin() const noexcept { return values_.begin(); }
  auto end() const noexcept { return values_.end(); }
  friend bool operator==(const Figures&, const Figures&) = default;

 private:
  std::map<std::string, double> values_;
};

}  // namespace antcrew::analysis_layer
