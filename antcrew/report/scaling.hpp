// What was not measured, from what was: formulas over workers, sizes from which on it pays, timelines.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/report/layer.hpp"
#include "antcrew/report/section.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {

// "Scaling projection", "Break-even size", and what else sizes tell; those with nothing to say are empty.
std::vector<Section> scaling_of(const Analysed& study);

// A band for each worker of a cell's kept timeline, of so many columns; empty when none was kept.
std::string timeline_text(const CellFigures& cell, std::size_t columns);

}  // namespace antcrew::report_layer
