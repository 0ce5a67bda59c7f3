// The small process that begins commands and waits for them: the other side of a Runner.
#pragma once

#include <string>
#include <variant>

#include "antcrew/sweep/internal/runner.hpp"
#include "antcrew/sweep/layer.hpp"

namespace antcrew::internal {

struct Started {
  static constexpr const char* called = "command started";
  pid_t process = 0;
  static void each(auto&& f, auto& m) { f("process", m.process); }
};
using CommandRequest = std::variant<Start>;
using CommandReply = std::variant<Started, Ended>;

std::string to_message(const CommandRequest& request);
std::string to_message(const CommandReply& reply);
// Throw BadMessage.
Start start_from(const std::string& message);
CommandReply command_reply_from(const std::string& message);

// In the forked process; does not return.
[[noreturn]] void serve_commands(Channel run);

}  // namespace antcrew::internal
