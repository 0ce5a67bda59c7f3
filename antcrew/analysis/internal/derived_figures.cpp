#include "antcrew/analysis/internal/derived_figures.hpp"

#include <algorithm>

#include "antcrew/analysis/sizes.hpp"
#include "antcrew/analysis/speedup.hpp"
#include "antcrew/analysis/verdict.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::internal {

void compute_reading(const Cell& baseline, CellFigures& figures) {
  constexpr double told = 0.1;
  constexpr double noticed_s = 20e-6;
  // What several workers wrote lies in their caches, and is read more slowly for that; nothing was left to do then.
  constexpr double times_longer = 3;
  const double usual_s = median_of(baseline, &Trial::compare_s);
  const double own_s = median_of(*figures.cell, &Trial::compare_s);
  const double more_s = own_s - usual_s;
  const double call_s = figures.time_s->median;
  if (figures.cell->kind != Cell::Kind::variant || more_s < std::max(noticed_s, told * call_s)) return;
  if (own_s < times_longer * usual_s) return;
  figures.read_speedup = figures.speedup->median * call_s / (call_s + more_s);
}

std::optional<double> speedup_by_cpu(const Cell& baseline, const Cell& cell, int processors) {
  constexpr double computing = 0.8;  // of the wall time
  constexpr double least_s = 1e-3;
  const auto base_s = median_cpu_s(baseline);
  const auto own_s = median_cpu_s(cell);
  if (!base_s || !own_s || *base_s < least_s || *own_s < least_s) return std::nullopt;
  if (*base_s < computing * median_of(baseline, &Trial::wall_s)) return std::nullopt;
  return *base_s / *own_s * std::min(cell.workers, processors);
}

Estimate scaled(Estimate e, double by) {
  for (double* one : {&e.median, &e.low, &e.high}) *one *= by;
  return e;
}

void compute_serial_fraction(CellFigures& figures, int processors) {
  const int workers = figures.cell->workers;
  figures.serial_fraction_of_itself = figures.self_speedup.has_value() && workers > 1;
  const Estimate& over = figures.serial_fraction_of_itself ? *figures.self_speedup : *figures.speedup;
  figures.serial_fraction = serial_fraction(over.median, workers, processors);
  const auto low = serial_fraction(over.high, workers, processors);
  const auto high = serial_fraction(over.low, workers, processors);
  if (figures.serial_fraction && low && high)
    figures.serial_fraction_bounds = Estimate{*figures.serial_fraction, *low, *high, over.count, over.claimed};
}

void compute_work(const Point& point, const Cell& alone, CellFigures& figures) {
  const int workers = figures.cell->workers;
  if (point.size > 0) figures.worker_s_an_item = workers * figures.time_s->median / static_cast<double>(point.size);
  const auto span_s = critical_path_of(figures);
  const double work_s = alone.trials.empty() ? 0 : median_of(alone, &Trial::wall_s);
  if (!span_s || !(work_s > 0)) return;
  WorkAndSpan found;
  found.work_s = work_s;
  found.span_s = std::min(*span_s, work_s);
  found.parallelism = work_s / found.span_s;
  found.least_s = std::max(work_s / workers, found.span_s);
  found.most_s = (work_s - found.span_s) / workers + found.span_s;
  figures.work_and_span = found;
}

}  // namespace antcrew::internal
