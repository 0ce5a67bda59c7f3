#include "antcrew/crew/crew_options.hpp"

#include "antcrew/base/error.hpp"

namespace antcrew {

using namespace base_layer;

const char* name_of(Pin pin) noexcept {
  switch (pin) {
    case Pin::apart:
      return "apart";
    case Pin::near:
      return "near";
    case Pin::off:
      break;
  }
  return "off";
}

const char* name_of(Way way) noexcept {
  return way == Way::zero_copy ? "zero-copy" : "copied";
}

namespace internal {

void check_options_of_threads(const CrewOptions& options, const std::string& where) {
  if (options.processes == ProcessOptions{}) return;
  bad_input("crew.options", where, "options for processes were given to a crew of threads",
            "leave CrewOptions::processes out, or use a ProcessCrew or StandingCrew");
}

void check_options_of_processes(const CrewOptions& options, const std::string& where) {
  if (options.stack_bytes != 0) {
    bad_input("crew.options", where, "a stack size was asked for, but a forked worker goes on with its caller's stack",
              "call from a thread with a larger stack, or raise `ulimit -s`");
  }
  if (options.at_begin || options.at_end) {
    bad_input("crew.options", where, "at_begin and at_end are for crews of threads",
              "do it at the beginning of the body, which runs in the process");
  }
  if (options.processes.retries < 0 || !(options.processes.deadline_s >= 0)) {
    bad_input("crew.options", where, "retries or deadline_s is negative", "give 0 or more");
  }
}

int checked_workers(long long count, const std::string& where) {
  if (count < 1 || count > max_workers) {
    bad_input("crew.workers", where, std::to_string(count) + " workers",
              "a crew has 1 to " + std::to_string(max_workers) + " workers");
  }
  return static_cast<int>(count);
}

}  // namespace internal

}  // namespace antcrew
