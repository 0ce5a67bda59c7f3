// Whether a record may be gone on with.
#pragma once

#include "antcrew/record/record.hpp"

namespace antcrew::internal {

// Throws Error (study.changed) naming the first thing in which `now` differs from `begun`. `now` holds the cells that
// the study would begin with. With `rebuilt`, the program may be another and only shared cells are compared.
void check_same_study(const Record& begun, const Record& now, bool rebuilt);

// FNV-1a of the program file that runs; empty when it cannot be read.
std::string program_hash();

}  // namespace antcrew::internal
