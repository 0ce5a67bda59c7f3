// Figures of one cell that follow from its times and those of the baseline.
#pragma once

#include <optional>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/layer.hpp"

namespace antcrew::internal {

Estimate scaled(Estimate estimate, double by);

// What is computed only when the answer is read, or mapped in pages that nobody has touched yet.
void compute_reading(const Cell& baseline, CellFigures& figures);

// See CellFigures. None of work that waits, and of what is too short for the kernel's ticks.
std::optional<double> speedup_by_cpu(const Cell& baseline, const Cell& cell, int processors);

// A speedup over the baseline mixes what the parallel formulation costs into it; one over the own time does not.
void compute_serial_fraction(CellFigures& figures, int processors);

// alone: the cell whose time is the whole work.
void compute_work(const Point& point, const Cell& alone, CellFigures& figures);

}  // namespace antcrew::internal
