// The small process that begins commands and waits for them: the other side of a Runner.
#pragma once

#include "antcrew/sweep/internal/runner.hpp"

namespace antcrew::internal {

// In the forked process; does not return.
[[noreturn]] void serve_commands(int channel);

std::string to_message(const Start& start);
Start start_from(const std::string& message);
std::string to_message(const Ended& ended);
Ended ended_from(const std::string& message);

}  // namespace antcrew::internal
