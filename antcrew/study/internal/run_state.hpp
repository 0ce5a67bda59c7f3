// What all parts of a run share: the record as it grows, the clock, and whom to tell.
#pragma once

#include <map>
#include <optional>
#include <random>
#include <string>

#include "antcrew/study/internal/budget.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/run_loop.hpp"

namespace antcrew::internal {

struct RunState {
  const RunTools& tools;
  const Outline& study;
  const Plan& plan;
  const RunHooks& hooks;
  Grid grid = {};
  Record record = {};
  std::mt19937_64 random = {};
  std::int64_t started_ns = 0;
  double measured_before_s = 0;  // by earlier runs of this record
  double began_at_s = 0;         // of this run, since the record was created
  std::int64_t visit_ended_ns = 0;
  int trials = 0;                                // of the whole record
  std::map<std::size_t, double> visit_s = {};    // what the last visit of each cell took, all in all
  std::map<std::size_t, double> opening_s = {};  // what opening the last block of each point took
  std::map<std::string, double> hung_s = {};     // waiting for calls of each variant that did not end
  Budget budget = {};
  double progress = 0;    // of the run, by rounds
  double advised_s_ = 0;  // the budget that was named last

  double yardstick_s = 0;  // spent by this run on its pieces that go with the rounds
  double stream_s = 0;     // and on the stream

  // Until other programs leave the machine, as long as the plan allows all together; what passes is not counted.
  void wait_until_idle();

  // What the machine is like now; not where that would take more than its share of the time.
  void time_yardstick(bool stream);

  double elapsed_s() const { return seconds_between(started_ns, tools.now_ns()); }
  static double seconds_between(std::int64_t from, std::int64_t to) { return static_cast<double>(to - from) * 1e-9; }

  // Adds to the record, and tells.
  void add(RecordStep step);
  void note(const std::string& text) const;
  void tell_progress(const Cell& next) const;
  void leave_out(LeftOut::What what, std::size_t point, double needed_s, const std::string& said) {
    leave_out(LeftOut{what, point, needed_s, 0}, said);
  }
  void leave_out(const LeftOut& left, const std::string& said);
  // There was time after all. Whoever reads the unfinished file does not know yet.
  void not_left_out(LeftOut::What what, std::size_t point);
  // Which of the grid's variants it is of; none where this run does not have it, and for baselines.
  std::optional<std::size_t> variant_of(const Cell& cell) const;
};

}  // namespace antcrew::internal
