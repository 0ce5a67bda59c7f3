// What a record says, computed: figures and verdict of every cell, and the best variant at every point.
//
//   Analysed study = analyse(record);
//   for (const CellFigures& cell : study.cells) if (cell.verdict == Verdict::holds) use(cell.speedup->median);
//
// Keeps pointers into the record, which must outlive it. Pure: no I/O, no clock.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/conclusion.hpp"
#include "antcrew/analysis/finding.hpp"
#include "antcrew/analysis/layer.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/analysis/verdict.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::analysis_layer {

// Of a run whose longest chain of dependent work was seen. T_p is T_1/p or the span at least, whichever is more, and
// (T_1 − span)/p + span at most for a greedy schedule (Brent 1974, "The parallel evaluation of general arithmetic
// expressions"). Likely: the span is that of an instrumented call.
struct WorkAndSpan {
  double work_s = 0;  // T_1: its own time with one worker, else the baseline's
  double span_s = 0;  // however many workers
  double parallelism = 0;
  double least_s = 0;  // of T_p
  double most_s = 0;
};

struct CellFigures {
  const Cell* cell = nullptr;
  Verdict verdict = Verdict::not_measured;
  std::string evidence;          // one line; empty for `holds`
  bool newest = true;            // no later attempt of the same variant
  std::size_t curve = 0;         // in Analysed::curves
  std::ptrdiff_t baseline = -1;  // its place in Analysed::cells; -1 = there is none

  // Present when there is at least one settled trial (time), and the verdict leaves the ratio a meaning (the rest).
  std::optional<Estimate> time_s;
  std::optional<Estimate> speedup;     // over generations: the baseline's time / this cell's time
  std::optional<Estimate> explored;    // the same before it was confirmed; what cells are ranked by
  bool confirmed = false;              // all figures but `explored` are those of the confirming rounds
  double correlation = 0;              // of neighbouring rounds while exploring; intervals are wider where it is over 0
  std::optional<double> read_speedup;  // with reading the answer counted in, where that is over 10 % of the call
  std::optional<double> first_speedup;     // of the first call after a start: the baseline's / this cell's
  std::optional<double> speedup_by_means;  // from the means of batches instead of their medians
  // Of work that computes: the baseline's CPU time / (this cell's / the workers that had a processor), to which other
  // programs add nothing; the speedup would be that if its work were shared out evenly and nobody waited.
  std::optional<double> speedup_by_cpu;
  std::optional<Estimate> self_speedup;  // the same, over the variant's own time with one worker
  std::optional<double> efficiency;
  std::optional<double> processor_efficiency;  // S / processors, when there are more workers than processors
  std::optional<double> overhead_s;            // worker-seconds, the median over rounds of p·T_p − T_s
  std::optional<double> relative_overhead;
  std::optional<double> one_worker_penalty;  // of the variant's one-worker cell
  std::optional<double> serial_fraction;  // over its own time with one worker where that was run, else the baseline's
  bool serial_fraction_of_itself = false;
  std::optional<Estimate> efficiency_bounds;  // the intervals of the three, of the same rounds
  std::optional<Estimate> overhead_bounds;
  std::optional<Estimate> serial_fraction_bounds;
  std::optional<double> worker_s_an_item;  // p·T_p / size
  std::optional<WorkAndSpan> work_and_span;
  std::optional<double> busy_processors;  // CPU time / wall time
  std::optional<double> startup_s;        // of the crew, the median over cell processes
  std::optional<double> cold_cost_s;  // first call of a cell process − median of settled trials, over cell processes
  std::optional<Estimate> part_s;     // probes: what the part left out costs, the variant's time − the probe's
  double spins_after_s = 0;           // other threads stay busy after a call, alike at every size
  double peak_bytes = 0;              // of its own process, or, where it had others, of all of them together
  bool several_processes = false;     // then peak_bytes is a lower bound
  std::map<std::string, PhaseFacts> phases;  // medians of a call; at_once: the most
  std::map<std::string, double> counters;    // the same
  std::map<std::string, double> quantities;  // the same
};

// The cell with the highest speedup among those that hold at one point; null when none does.
struct Best {
  const CellFigures* cell = nullptr;
  bool faster = false;  // the interval of its speedup lies above 1
};

// One step of a ladder, at one point with one worker count.
struct LadderStep {
  const CellFigures* cell = nullptr;
  std::optional<Estimate> over_previous;  // time of the step before / this step's time; none for the first
  bool paired = true;  // false: the two were tried in different rounds, so the interval is the wider one of two
};

// c(p): how many times slower the baseline runs when p copies of it run at once.
struct CrowdFigure {
  std::size_t point = 0;
  int copies = 1;
  Estimate slowdown;  // told only where it is an interval
};

// Two times that the baseline itself takes, now the one and now the other.
struct TwoSpeeds {
  std::size_t point = 0;
  double fast_s = 0;
  double slow_s = 0;
  int fast = 0;  // trials of each
  int slow = 0;
};

struct Analysed {
  const Record* record = nullptr;
  std::vector<CellFigures> cells;  // in the record's order
  std::vector<Best> best;          // for each point
  // Cells that differ in their worker count only, by that count: their places in `cells`.
  std::vector<std::vector<std::size_t>> curves;
  std::vector<std::vector<LadderStep>> ladders;
  std::vector<CrowdFigure> crowds;
  std::vector<TwoSpeeds> two_speeds;
  Conclusion conclusion;
  std::vector<Finding> remarks;  // on the build, the machine and the run
};

Analysed analyse(const Record& record);
Analysed analyse(Record&&) = delete;  // it would be gone before its figures are read

// Ratio of two cells' times, a's / b's, over the generations in which both were explored; none without such a one.
std::optional<Estimate> ratio_of_times(const Cell& a, const Cell& b, double level = 0.95);

// The level at which this record's intervals are computed, so that they hold 95 %.
double level_of(const Record& record) noexcept;

}  // namespace antcrew::analysis_layer
