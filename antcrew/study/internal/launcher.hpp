// What begins the processes of a launched cell, as it is written and as it is called.
#pragma once

#include <string>
#include <vector>

#include "antcrew/record/point.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

// A dimension of this name says how many threads each process has: then there are as many processes less.
inline constexpr const char* threads_per_rank = "threads_per_rank";
// Throws Error (study.launcher) where the workers cannot be shared out so.
int processes_for(int workers, const Point& at);

// A launcher as it is written, in words: blanks part them, but for those between quotes ("…" or '…'). @(name) is
// replaced by its value: workers, ranks, size, dimensions. Throws Error (study.launcher) for a quote or bracket that is
// not closed, and for a name without a value.
std::vector<std::string> launcher_words(const std::string& launcher, int workers, const Point& at);
// What is used where nobody chose one. Throws Error (study.launcher) where there is no such program.
std::string usual_launcher();

}  // namespace antcrew::internal
