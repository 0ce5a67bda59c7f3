// A body that forks and lets the child return would run the whole harness twice: such a child ends where it comes back.
#pragma once

#include "antcrew/machine/forks.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::study_layer {
struct ProcessBoard;
}

namespace antcrew::internal {

// Where it is told; null = nowhere.
void tell_returned_children_to(study_layer::ProcessBoard* board) noexcept;

// Ends this process at once.
[[noreturn]] void end_returned_child() noexcept;

// For the caller of a body, with the depth before the call.
inline void end_if_returned_child(int depth_before) noexcept {
  if (fork_depth() != depth_before) [[unlikely]]
    end_returned_child();
}

}  // namespace antcrew::internal
