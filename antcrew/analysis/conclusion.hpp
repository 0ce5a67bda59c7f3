// The answer of a study: which variant leads at the largest size, whether that was confirmed, and what it is worth.
//
// The highest of many figures owes some of its height to luck. So the leader is tried again, with the rivals that were
// not told apart from it, in fresh rounds that nobody chose from; where there was no time for that, its interval is
// widened for the number of cells it was chosen from. Pure; any thread may call these.
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/claim.hpp"
#include "antcrew/analysis/layer.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/record/forward.hpp"

namespace antcrew::analysis_layer {

struct CellFigures;
struct Analysed;

struct Conclusion {
  enum class Kind {
    nothing_measured,
    no_baseline,    // it has no figures
    none_holds,     // of the variants
    cannot_tell,    // too few rounds, or too noisy
    not_faster,     // the leader is not shown to beat the baseline
    no_difference,  // between the two that matters: the whole interval is within what does not
    faster,         // the leader is, by more than what does not matter; others may be as good
    best,           // the leader is, and is better than every other by as much
    not_confirmed,  // in fresh rounds a rival proved better than the leader, or the leader fell behind others
  };

  Kind answer = Kind::nothing_measured;
  std::size_t point = 0;  // of the largest size
  const CellFigures* leader = nullptr;
  std::optional<Estimate> speedup;        // the leader's, at the level that the way of choosing asks for
  bool confirmed = false;                 // by fresh rounds; otherwise apparent
  double matters = 0;                     // a difference up to this share does not
  std::optional<Claim> claim;             // what confirmed it, where it was
  bool of_one_block = false;              // it rests on one input and one process, so that nothing is called the best
  std::vector<ByInput> by_input;          // which of baseline and leader is faster depends on the input
  std::vector<ByInput> rivals_by_input;   // which of leader and the nearest rival is
  std::vector<const CellFigures*> level;  // not told apart from the leader, best first
  const CellFigures* better = nullptr;    // the rival that proved better; or a cell that was not tried again, whose
                                          // speedup before was above the leader's of now
  std::optional<Estimate> better_by;      // the leader's time / its time; none where the two were not side by side
  const CellFigures* passed_over = nullptr;  // would lead, but the same variant is wrong or crashes elsewhere
};

const char* name_of(Conclusion::Kind answer) noexcept;

// Of what `study` holds: all but its conclusion must be there.
Conclusion conclude(const Analysed& study);

// The point that the headline speaks of.
std::size_t headline_point(const Record& record) noexcept;

// The budget, in seconds, that has time for what was left out: the one number to be told, more than this run had. It
// goes by what the result lacks, and by checks and the look at where time went only if it lacks nothing else. 0: none.
double advised_budget_s(const Record& record) noexcept;

// Leader and rivals at a point, by what exploring showed: best first, at most most_rivals (thresholds.hpp) of them;
// empty when no cell holds. What is to be tried again.
std::vector<std::size_t> contenders(const Analysed& study, std::size_t point);

// Rounds that a ratio takes to come within `width` of its median, by the spread of those seen so far; at least `least`.
int rounds_for(const std::vector<double>& ratios, double width, int least);

// The number of the confirmation that the record's headline rests on, from 1 on; 0 = none came to its end.
int confirmed_by(const Record& record);

}  // namespace antcrew::analysis_layer
