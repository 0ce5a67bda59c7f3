// What some causes took of a cell's metered calls, told or not: share, seconds, gain, and how sure that is.
//
//   LossFigures waits = loss_figures(ledgers, {Cause::lock_wait, Cause::slow_stage});
//
// Pure.
#pragma once

#include <vector>

#include "antcrew/analysis/finding.hpp"
#include "antcrew/analysis/layer.hpp"
#include "antcrew/analysis/ledger.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

// Of lanes × wall: what takes less by itself is not told by itself.
inline constexpr double least_told_share = 0.05;

const Ledger& middle_of(const std::vector<Ledger>& ledgers);

struct LossFigures {
  double share = 0;   // of lanes × wall; the median over the calls; below 0 = saved
  double loss_s = 0;  // worker-seconds of a call, likewise
  double gain = 0;    // how many times shorter the call would be at most without all of them; 0 = in none of the calls
  // measured: all calls say so, and, where they are the largest loss of the middle call, of all calls.
  Finding::Sure sure = Finding::Sure::likely;
};
LossFigures loss_figures(const std::vector<Ledger>& ledgers, const std::vector<Cause>& causes);

}  // namespace antcrew::internal
