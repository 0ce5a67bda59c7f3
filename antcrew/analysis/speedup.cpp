#include "antcrew/analysis/speedup.hpp"

namespace antcrew::analysis_layer {

double efficiency(double speedup, int workers) {
  return speedup / workers;
}

double overhead_s(double baseline_s, double variant_s, int workers) {
  return workers * variant_s - baseline_s;
}

double relative_overhead(double baseline_s, double variant_s, int workers) {
  return overhead_s(baseline_s, variant_s, workers) / baseline_s;
}

double one_worker_penalty(double baseline_s, double one_worker_s) {
  return one_worker_s / baseline_s - 1;
}

std::optional<double> serial_fraction(double speedup, int workers, int usable_processors) {
  if (workers <= 1 || workers > usable_processors || speedup <= 0) return std::nullopt;
  const double share = 1.0 / workers;
  return (1 / speedup - share) / (1 - share);
}

}  // namespace antcrew::analysis_layer
