// What was found, in one sentence.
#pragma once

#include <string>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

// About the largest point: the best variant with its workers and interval, or that none is faster, or that none holds.
std::string headline(const Analysed& study);

// The same in a line, for a list of runs: `best: "split evenly" (ThreadCrew) with 2 workers, speedup 1.9 (1.8 to 2.0)`.
std::string answer_in_short(const Analysed& study);

// `"split evenly" (ThreadCrew) with 2 workers`
std::string cell_in_words(const Cell& cell);

// "size 10,000, distinct 100"
std::string point_in_words(const Point& point);

// Whether what a verdict rests on is told of this cell: not where it was not measured because of another cell.
bool speaks_against(const CellFigures& f);

}  // namespace antcrew::report_layer
