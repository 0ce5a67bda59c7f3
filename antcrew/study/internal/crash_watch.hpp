// How a cell process tells the outside what ended it, when it cannot go on: a signal, an exception that nobody caught,
// a child of the body that came back.
#pragma once

#include "antcrew/study/layer.hpp"
#include "antcrew/study/visit.hpp"

namespace antcrew::internal {

// Built with a sanitizer, which sees to crashes and memory itself.
extern const bool sanitized;

// From here on this process tells `board`. Not the processes that it forks: their end is told by their crew.
void watch_crashes(ProcessBoard* board);

}  // namespace antcrew::internal
