// Confirming: the leader of the largest point and its rivals again, in fresh rounds in a new block process.
#pragma once

#include "antcrew/study/internal/block_run.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

// Chooses whom and how many rounds before the first of them, and makes exactly those; or goes on with a confirmation
// that was not finished. Nothing where exploring found nobody to confirm, or where there is no time.
void confirm(RunState& run);

}  // namespace antcrew::internal
