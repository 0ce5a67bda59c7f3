// What is found out about a point beside its rounds: where the time went, and whether answers depend on the input. It
// comes before the tenth round, for a share of the budget that rounds do not get.
#pragma once

#include <cstddef>

#include "antcrew/study/internal/block_run.hpp"
#include "antcrew/study/internal/run_state.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

class Explaining {
 public:
  explicit Explaining(RunState& run) : run_(run) {}

  struct How {
    bool checks_only = false;
    bool last = false;  // what had no time is told
  };
  // While there is time. What leads later comes later.
  void explain(std::size_t point, BlockRun& block, How how);

  void say_not_metered(std::size_t point, int cells, double needed_s);

 private:
  // Each variant that is sound so far is tried with another input, off the clock, the fastest first: what is too good
  // to be true, and what will be named the best, is among them. For a small share of the budget, which input and
  // reference may have used up already.
  void checks(std::size_t point, BlockRun& block, bool last);
  // Each variant at its largest worker count, and the fastest cell, the baseline first: what they do is logged in calls
  // that are not timed.
  void meter(std::size_t point, BlockRun& block, bool last);
  void together(BlockRun& block);
  bool alone_is_missing(const Cell& cell) const;
  double foreseen_s(const Cell& cell, int calls, bool one_worker) const;

  void meter_again(std::size_t i, BlockRun& block, double allowed_s);

  RunState& run_;
  double meter_s_ = 0;   // spent on metered calls, at all points
  double checks_s_ = 0;  // spent on checks, at all points
};

}  // namespace antcrew::internal
