#include "antcrew/study/internal/exit_reason.hpp"

#include <fmt/format.h>
#include <signal.h>
#include <sys/wait.h>

#include <cstring>
#include <fstream>

#include "antcrew/base/units.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::internal {

double oom_kills() {
  std::ifstream file("/proc/vmstat");
  std::string name;
  double value = 0;
  while (file >> name >> value) {
    if (name == "oom_kill") return value;
  }
  return 0;
}

Fault timed_out(const ProcessBoard& board, double limit_s, const std::string& limit_is, int round) {
  Fault fault{Fault::Kind::timed_out, round,
              fmt::format("no end after {} {}; the limit is {} (--call-timeout)", duration_text(limit_s),
                          name_of(static_cast<Stage>(board.stage.load(std::memory_order_relaxed))), limit_is)};
  fault.evidence = {{"limit_s", limit_s}};
  return fault;
}

Fault exit_reason(const Ending& ending, const ProcessBoard& board, int round) {
  const int status = ending.status;
  const char* when = name_of(static_cast<Stage>(board.stage.load(std::memory_order_relaxed)));
  const std::string last_words =
      ending.printed_last.empty() ? "" : fmt::format("; the last that it printed: \"{}\"", ending.printed_last);
  if (!WIFSIGNALED(status)) {
    return {Fault::Kind::crashed,
            round,
            fmt::format("its process ended itself with exit code {} {}", WEXITSTATUS(status), when) + last_words,
            {{"exit_code", WEXITSTATUS(status)}}};
  }
  const int number = WTERMSIG(status);
  Fault fault{Fault::Kind::crashed, round, {}, {{"signal", number}}};
  if (number == SIGABRT && board.terminated.load() != 0) {
    fault.kind = Fault::Kind::threw;
    const std::string thrown(board.thrown, ::strnlen(board.thrown, sizeof board.thrown));
    fault.text = thrown.empty() ? fmt::format(
                                      "std::terminate was called {}, with no exception under way: a thread that "
                                      "was neither joined nor detached is destroyed so",
                                      when)
                                : fmt::format("a thread threw {}, which nobody caught, {}", thrown, when);
  } else if (number == SIGKILL && oom_kills() > ending.oom_kills_before) {
    fault.kind = Fault::Kind::out_of_memory;
    fault.text = fmt::format("killed by the system for lack of memory {}", when);
  } else if (number == SIGSEGV && board.signal.load() == 0) {
    const std::uint64_t stack = read_limits().stack_bytes;
    fault.text = fmt::format(
        "stack overflow (signal 11) {}; stacks here are {}: raise `ulimit -s`, for workers of a crew "
        "CrewOptions::stack_bytes, or recurse less deeply",
        when, bytes_text(stack));
    fault.evidence["stack_limit_bytes"] = static_cast<double>(stack);
  } else if (number == SIGKILL) {
    fault.text = fmt::format("killed from outside (signal 9) {}", when);
  } else {
    fault.text = fmt::format("signal {} ({}) {}", number, ::strsignal(number), when);
    if (number == SIGSEGV || number == SIGBUS) fault.text += fmt::format(", address {:#x}", board.address.load());
  }
  if (fault.kind != Fault::Kind::threw) fault.text += last_words;
  return fault;
}

}  // namespace antcrew::internal
