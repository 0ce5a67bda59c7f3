// What is tried once a cell is timed, off the clock, in a cell process of its own: another input, and its own input
// again.
#pragma once

#include "antcrew/study/layer.hpp"
#include "antcrew/study/visit.hpp"

namespace antcrew::internal {

// Calls the variant on its input, then on one of `other_size`, and compares that answer with the baseline's: one that
// remembers gives the first answer again. Then the baseline is called on the input that the variant had: it must answer
// as before. `other_size` 0 leaves the first part out. What could not be done is told in seen.check.
Visit check_cell(const StudyBase& study, const CellSpec& spec, const Point& at, std::size_t other_size,
                 const Anything& input, const Anything& reference_answer, ProcessBoard* board);

}  // namespace antcrew::internal
