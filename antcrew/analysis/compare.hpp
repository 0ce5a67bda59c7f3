// Before and after: what became of each cell between two records, or between several runs of each.
//
//   const Comparison found = compare({&old}, {&now});
//   for (const ComparedCell& cell : found.cells) if (cell.change == Change::worse) use(*cell.ratio);
//
// Across runs speedups are compared, not times: the baseline of each run takes along what the machine was like. To the
// intervals within runs comes the spread from run to run, which shows from five runs of each on; with fewer a margin of
// 5 % stands for it. Of m cells one is called changed at the level 1 − false_alarms/m, so that over all of them so many
// comparisons of what is alike say so. A fault decides before any figure: of the newest run first, then of any other.
// Pure; what is compared must outlive it.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/analysis/layer.hpp"

namespace antcrew::analysis_layer {

enum class Change { better, worse, same, cannot_tell };
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
  std::optional<SpeedupInterval> ratio;  // speedup after / before, with the margin in it; none where one has none
  double deviation = 0;                  // standard, of the ratio's logarithm, without the margin
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

struct Comparison {
  std::vector<Differing> differs;
  std::vector<ComparedCell> cells;
  std::vector<Unmatched> only_before;
  std::vector<Unmatched> only_after;
  std::string disturbed;  // which of the last runs was, and how; empty = none
  int runs_before = 1;
  int runs_after = 1;
  double margin = 0;                   // relative, in every interval
  std::optional<double> between_runs;  // relative standard deviation, over all cells; none under five runs of each

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
