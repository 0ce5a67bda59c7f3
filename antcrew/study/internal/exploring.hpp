// Exploring: every cell of every point in rounds, until intervals are narrow or time is up.
#pragma once

#include "antcrew/study/internal/block_run.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

// Points in order: the largest size, the middle one, the rest. Says what there is no time for as soon as that is known.
void explore(RunState& run);

}  // namespace antcrew::internal
