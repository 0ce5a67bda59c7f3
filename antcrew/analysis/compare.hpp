// Before and after: what became of each cell between two records, or between several runs of each.
//
//   const Comparison found = compare({&old}, {&now});
//   for (const ComparedCell& cell : found.cells) if (cell.change == Change::worse) use(*cell.ratio);
//
// Two figures of each cell are compared. Its speedup: the baseline of each run takes along what the machine was like.
// And its time, against the yardstick that each run timed: so a kernel that became faster in the baseline, too, is
// seen. Runs of the same program differ by more than their intervals say. Where one side has five runs, or both
// together leave four degrees of freedom, that spread is measured and goes in with Student's quantiles; with fewer, 3.5
// % stand for it, more for a cell of noisy rounds, and one run against one never tells a change under 10 %. Of m cells
// one is called changed at the level 1 − false_alarms/m, so that over all of them so many comparisons of what is alike
// say so, where the spread was measured. "Same" is said where the whole interval is within 5 %. A fault decides before
// any figure: of the newest run first, then of any other. Pure; what is compared must outlive it.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/analysis/layer.hpp"

namespace antcrew::analysis_layer {

// better_in_time: faster, by the yardstick, though the speedup over a baseline that gained more is lower.
// worse_in_time: slower, with a speedup that did not fall, since the baseline became slower with it.
enum class Change { better, worse, better_in_time, worse_in_time, same, cannot_tell };
const char* name_of(Change change) noexcept;

struct SpeedupInterval {
  double low = 0;
  double median = 0;
  double high = 0;
};

// "0.47 (0.44 to 0.49)": as many digits as it takes for no bound to be rounded across 1.
std::string in_words(const SpeedupInterval& ratio);

// What changed most among the losses of a cell: worker-seconds of a call.
struct ChangedLoss {
  std::string id;
  std::string name;  // of the lock, phase or place
  double before_s = 0;
  double after_s = 0;
};

struct ComparedCell {
  const CellFigures* before = nullptr;  // of the last run of each
  const CellFigures* after = nullptr;
  Change change = Change::cannot_tell;
  std::optional<SpeedupInterval> ratio;  // speedup after / before; none where one has none
  std::optional<SpeedupInterval> time;   // time before / after by the yardstick; none where a run has no yardstick
  double told_from = 0;                  // a share: a loss beyond it would have been told
  bool spread_measured = false;          // from run to run; otherwise it is assumed
  std::string why;                       // of what cannot be told, in words
  std::optional<ChangedLoss> grown;      // where both have a ledger
  std::optional<ChangedLoss> shrunk;     // likewise
};

struct Differing {
  // unlike: two studies, of which no cell can be compared. elsewhere: measured on another machine or of another build,
  // so that a change may come from that alone.
  enum class Weight { aside, elsewhere, unlike };

  std::string what;
  std::string before;
  std::string after;
  Weight weight = Weight::aside;

  bool unfair() const noexcept { return weight != Weight::aside; }
};

// A cell that one side alone has.
struct Unmatched {
  const CellFigures* of = nullptr;
  std::string words;
};

// The baseline itself, of a point or of an edited variant.
struct ComparedBaseline {
  const CellFigures* before = nullptr;
  const CellFigures* after = nullptr;
  SpeedupInterval time;  // before / after, by the yardstick
  bool moved = false;    // beyond doubt, and by more than 5 %
};

struct Comparison {
  std::vector<Differing> differs;
  std::vector<ComparedCell> cells;
  std::vector<ComparedBaseline> baselines;  // of runs with a yardstick
  std::vector<Unmatched> only_before;
  std::vector<Unmatched> only_after;
  std::string disturbed;  // which of the last runs was, and how; empty = none
  int runs_before = 1;
  int runs_after = 1;
  double least_told = 0;               // a change under this share is not told: 10 % with one run of each
  double assumed = 0;                  // relative spread from run to run, where it is not measured
  std::optional<double> between_runs;  // measured: relative standard deviation, the median cell's

  bool any(Change change) const noexcept;
  // The first that weighs so much; null where none does.
  const Differing* differs_by(Differing::Weight weight) const noexcept;
};

inline constexpr double usual_false_alarms = 0.01;

// Oldest run first. Cells are matched by variant, crew, workers, size, dimensions and pinning; of several attempts the
// newest. false_alarms: the share of comparisons of what is alike in which any cell is called changed, at most. Throws
// Error (compare.runs) when a side has no run, or one run is on both sides.
Comparison compare(const std::vector<const Analysed*>& before, const std::vector<const Analysed*>& after,
                   double false_alarms = usual_false_alarms);

// The cell of `in` that is to be compared with `cell` of `study`; null where it has none.
const CellFigures* same_cell(const Analysed& in, const Analysed& study, const CellFigures& cell);

// What kept processors away from a run, in words; empty where it was quiet enough for its figures to be compared: other
// programs kept under a quarter of a processor busy, and a hypervisor took under a tenth of one.
std::string disturbed(const Record& record);

// How many standard deviations hold a share of `level` of a normal distribution, both sides together.
double deviations_for(double level) noexcept;

}  // namespace antcrew::analysis_layer
