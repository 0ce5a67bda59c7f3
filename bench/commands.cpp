// What a trial of a command costs beyond a bare spawn: a process that does nothing, begun and waited for by hand, and
// by the small process that begins commands; with little and with much memory in the process that asks for it.
#include <fcntl.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <memory>
#include <vector>

#include "antcrew/antcrew.hpp"
#include "antcrew/cli/study_main.hpp"
#include "antcrew/sweep/internal/runner.hpp"

extern char** environ;

namespace {

using namespace antcrew;

struct Memory {
  std::vector<char> bytes;
};

Memory with_memory(const StudyPoint& at) {
  return {std::vector<char>(at["megabytes"] << 20, 'x')};
}

constexpr const char* nothing = "/bin/true";

int bare_spawn(const Memory&) {
  pid_t pid = 0;
  char* words[] = {const_cast<char*>(nothing), nullptr};
  if (::posix_spawn(&pid, nothing, nullptr, nullptr, words, environ) != 0) return -1;
  int status = 0;
  ::waitpid(pid, &status, 0);
  return status;
}

// Forked in the first call of each stand, which is not timed.
int through_the_runner(const Memory&, Workers) {
  static internal::Runner runner;
  internal::Start start;
  start.words = {nothing};
  start.output = start.errors = "/dev/null";
  start.memory_bytes = 1ull << 40;
  start.output_bytes = 1ull << 40;
  return runner.run(start, {}).status;
}

}  // namespace

int main(int argc, char** argv) {
  Study study("A command that does nothing", with_memory, bare_spawn, exactly());
  study.sizes({1});
  study.workers({1});
  study.dimension("megabytes", {10, 2000});
  study.variant<Workers>("through the runner", through_the_runner);
  return study_main(argc, argv, study);
}
