// Whether a record may be gone on with.
#pragma once

#include <string>
#include <vector>

#include "antcrew/record/forward.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/plan.hpp"

namespace antcrew::internal {

// Throws Error (study.changed) naming the first thing in which `now` differs from `begun`. `now` holds the cells that
// the study would begin with. With `rebuilt`, the program may be another and only shared cells are compared.
void check_resume(const Record& begun, const Record& now, bool rebuilt);

// The plan with those parts of the grid that `begun` was asked for and this plan leaves open.
Plan as_begun(Plan plan, const Record& begun);

// Names the parts of the grid that a plan gives.
std::vector<std::string> asked_by(const Plan& plan);

// Of the program file that runs; empty when it cannot be read.
std::string program_hash();

}  // namespace antcrew::internal
