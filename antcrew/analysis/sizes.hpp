// How what a variant is worth changes with the size of its input, and with the number of its workers.
//
//   for (const Crossover& c : crossovers_of(study)) if (c.kind == Crossover::Kind::between) use(c.size.low,
//   c.size.high);
//
// Intervals of what is one of many are wider: at 1 − 0.05/m over the m cells looked at. Pure; any thread may call
// these.
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/analysis/layer.hpp"
#include "antcrew/analysis/models.hpp"
#include "antcrew/analysis/statistics.hpp"

namespace antcrew::analysis_layer {

// The size from which a variant stays faster than the baseline, with the same worker count and dimensions. Where both
// times lie on lines over three sizes or more, as with a fixed cost and a cost an item, it is where their difference is
// 0; else the bounds are measured sizes: the last that is slower beyond doubt, the first from which all are faster.
struct Crossover {
  enum class Kind {
    everywhere,  // faster at the smallest size already, beyond doubt
    nowhere,     // not faster at the largest, beyond doubt
    between,
    open  // the data cannot tell
  };
  const CellFigures* of = nullptr;  // at the largest size
  Kind kind = Kind::open;
  bool on_lines = false;
  Bounds size;                  // of between and open; low 0: below the smallest; high infinite: beyond the largest
  std::size_t sure_from = 0;    // the smallest measured size from which the lower bound stays above 1; 0 = none
  std::size_t size_to_add = 0;  // that would tell most; 0 = it is known well enough
  std::vector<std::size_t> sizes;
};
std::vector<Crossover> crossovers_of(const Analysed& study);

// T(n) = fixed + per item × n, over the sizes of a variant, and where it meets the baseline's line: the size, and the
// calls, that pay back what is fixed. Only where both lines lie within the noise of three sizes or more.
struct SizeLine {
  const CellFigures* of = nullptr;  // at the largest size
  Bounds fixed_s;
  Bounds per_item_s;
  std::optional<Bounds> break_even_size;   // none: it never pays back, or at once
  std::optional<double> break_even_calls;  // that pay back the crew's start, at the largest size
};
std::vector<SizeLine> size_lines_of(const Analysed& study);

// Time an item grows where the input no longer fits a level of the caches.
struct CacheStep {
  const CellFigures* of = nullptr;  // at the larger size
  std::size_t from_size = 0;
  std::size_t to_size = 0;
  double ratio = 1;  // of the times an item
  int level = 0;
  double cache_bytes = 0;
  double from_bytes = 0;  // input and reference answer, measured
  double to_bytes = 0;
};
std::vector<CacheStep> cache_steps_of(const Analysed& study);

// p times the work on p workers against one worker with one part of it: 1 is ideal. Needs a weak-scaling study.
struct WeakScaling {
  const CellFigures* of = nullptr;
  Estimate efficiency;
};
std::vector<WeakScaling> weak_scaling_of(const Analysed& study);

// The fewest workers that are not slower than the best count of the same curve by more than 5 %.
struct WorthIt {
  const CellFigures* of = nullptr;    // with that many workers
  const CellFigures* best = nullptr;  // the fastest of the curve
  double slower_at_most = 1;          // upper bound of their ratio
};
std::optional<WorthIt> worth_it(const Analysed& study, std::size_t curve);

// A named phase whose time does not fall with more workers: it stays, however many there are.
struct PhaseCeiling {
  std::string phase;
  double share = 0;  // of the call
  double limit_speedup = 0;
};
// The largest share first; from 5 % on.
std::vector<PhaseCeiling> phase_ceilings_of(const Analysed& study, const CellFigures& cell);

// Of the tasks and graphs of an instrumented run: the shortest of those that were kept. None where it had none.
std::optional<double> critical_path_of(const CellFigures& cell);

}  // namespace antcrew::analysis_layer
