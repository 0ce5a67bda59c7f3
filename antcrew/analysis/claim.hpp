// What the fresh rounds of a confirmation show of the ratio of two cells' times.
//
// Its unit is the block: an input process, started anew where that could be done, whose rounds share its input and the
// layout of its memory. So the interval is one over blocks, however many rounds each has, and nothing is tested to find
// out whether blocks matter. Rounds that resemble each other widen it. Where what was explored before disagrees, or the
// ratio drifts, the interval spans both. Pure; any thread may call these.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/layer.hpp"
#include "antcrew/analysis/pairing.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/record/forward.hpp"

namespace antcrew::analysis_layer {

struct Claim {
  Estimate ratio;          // a's time / b's
  int blocks = 0;          // that it rests on; 0 = on rounds of one input process
  int rounds = 0;          // of all blocks
  double widened = 1;      // for rounds that resemble their neighbours
  double correlation = 0;  // of neighbours
  // What exploring had, where the interval spans that too; then `drifts` says that the ratio goes up or down with time.
  std::optional<Estimate> spans;
  bool drifts = false;
};

// a's time / b's in that confirmation, at this level. chosen_from: cells that b was chosen from for being the fastest,
// so that exploring flattered it. None without a round.
std::optional<Claim> claim_of(const Cell& a, const Cell& b, int confirming, double level, std::size_t chosen_from);

// As estimate_of(ratios_of(a, b, exploring), level), widened for rounds that resemble their neighbours by as much as
// `correlation` says.
std::optional<Estimate> explored_ratio(const Cell& a, const Cell& b, double level, double correlation);

// For each cell, how much neighbouring rounds resemble each other while exploring: by those of all cells of its point,
// but by its own where they resemble each other clearly more. 0 in records of before that was looked at.
std::vector<double> explored_correlations(const Record& record);

// The variants' cells at a point that were tried: what the fastest was chosen from.
std::size_t chosen_from(const Record& record, std::size_t point);

// Whether blocks were counted when the record was made: otherwise its claims rest on rounds, as they did then.
bool counts_blocks(const Record& record) noexcept;

// Blocks of different inputs do not agree which of two is faster: beyond doubt, at 99 %.
struct ByInput {
  std::uint64_t seed = 0;
  double ratio = 0;  // the median over its blocks
};
std::vector<ByInput> disagreeing_inputs(const Record& record, const Cell& a, const Cell& b, int confirming);

}  // namespace antcrew::analysis_layer
