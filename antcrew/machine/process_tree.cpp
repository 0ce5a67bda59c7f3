#include "antcrew/machine/process_tree.hpp"

#include <signal.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <fstream>
#include <string>

#include "antcrew/machine/usage.hpp"

namespace antcrew::machine_layer {

void default_signals() {
  for (const int number : {SIGINT, SIGTERM, SIGHUP, SIGPIPE, SIGCHLD}) ::signal(number, SIG_DFL);
  sigset_t none;
  sigemptyset(&none);
  ::sigprocmask(SIG_SETMASK, &none, nullptr);
}

void end_with_parent(pid_t parent) {
  ::prctl(PR_SET_PDEATHSIG, SIGKILL);
  if (::getppid() != parent) ::_exit(0);
}

void no_core_file() {
  const rlimit none{0, 0};
  ::setrlimit(RLIMIT_CORE, &none);
}

void adopt_orphans() {
  ::prctl(PR_SET_CHILD_SUBREAPER, 1);
}

bool is_at_or_below(pid_t process, const std::vector<pid_t>& roots) {
  for (int steps = 0; process > 1 && steps < 64; ++steps) {
    if (std::find(roots.begin(), roots.end(), process) != roots.end()) return true;
    std::ifstream stat("/proc/" + std::to_string(process) + "/stat");
    std::string line;
    std::getline(stat, line);
    const std::size_t after_name = line.rfind(')');
    if (after_name == std::string::npos || after_name + 4 > line.size()) return false;
    process = std::atoi(line.c_str() + after_name + 4);
  }
  return false;
}

bool nobody_below() {
  siginfo_t info{};
  return ::waitid(P_ALL, 0, &info, WEXITED | WNOHANG | WNOWAIT) != 0 && errno == ECHILD;
}

int end_all_below(const std::function<bool(pid_t)>& spare) {
  constexpr int most_looks = 100;
  int ended = 0;
  for (int look = 0; look < most_looks && !nobody_below(); ++look) {
    int now = 0;
    for (const pid_t left : living_descendants()) {
      if (spare && spare(left)) continue;
      now += ::kill(left, SIGKILL) == 0 ? 1 : 0;
    }
    ended += look == 0 ? now : 0;
    while (true) {
      siginfo_t gone{};
      if (::waitid(P_ALL, 0, &gone, WEXITED | WNOHANG | WNOWAIT) != 0 || gone.si_pid == 0) break;
      if (spare && spare(gone.si_pid)) break;  // kept for who asks for it
      ::waitpid(gone.si_pid, nullptr, 0);
    }
    if (now == 0) break;
    ::usleep(1000);
  }
  return ended;
}

}  // namespace antcrew::machine_layer
