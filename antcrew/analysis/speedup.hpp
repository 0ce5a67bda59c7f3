// The arithmetic of speedup, one formula a function. T_s is the baseline's time, T_p a variant's at p workers, in
// seconds; S is a speedup.
#pragma once

#include <optional>

#include "antcrew/analysis/layer.hpp"

namespace antcrew::analysis_layer {

// E = S / p.
double efficiency(double speedup, int workers);

// T_o = p·T_p − T_s, in worker-seconds: what the workers spent beyond the baseline's work. Negative when they spent
// less than the baseline (Kumar, Grama, Gupta and Karypis 1994, "Introduction to Parallel Computing").
double overhead_s(double baseline_s, double variant_s, int workers);

// T_o / T_s.
double relative_overhead(double baseline_s, double variant_s, int workers);

// T_1 / T_s − 1: what the parallel formulation costs before any parallelism.
double one_worker_penalty(double baseline_s, double one_worker_s);

// The experimentally determined serial fraction e = (1/S − 1/p) / (1 − 1/p) (Karp and Flatt 1990, "Measuring parallel
// processor performance"). None unless 1 < p <= usable processors.
std::optional<double> serial_fraction(double speedup, int workers, int usable_processors);

}  // namespace antcrew::analysis_layer
