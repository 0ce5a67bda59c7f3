#include "antcrew/sweep/internal/runner_side.hpp"

#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <spawn.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <optional>

#include "antcrew/base/bad_message.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/process_tree.hpp"
#include "antcrew/machine/tree_memory.hpp"
#include "antcrew/machine/usage.hpp"

namespace antcrew::internal {
namespace {

constexpr int look_every_ms = 50;
constexpr double late_look_s = 1.0;        // after the one before
constexpr double asked_for_s = 2.0;        // so long it may go on after it was asked to end
constexpr int looks_between_folders = 20;  // reading a folder takes longer than all else

double seconds_of(const timeval& t) {
  return static_cast<double>(t.tv_sec) + static_cast<double>(t.tv_usec) * 1e-6;
}

void add(Ended& to, const rusage& used) {
  to.user_s += seconds_of(used.ru_utime);
  to.system_s += seconds_of(used.ru_stime);
  to.switches_voluntary += used.ru_nvcsw;
  to.switches_forced += used.ru_nivcsw;
  to.faults_minor += used.ru_minflt;
  to.faults_major += used.ru_majflt;
}

std::string contents(const std::string& path) {
  std::string text;
  const int file = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (file < 0) return text;
  char buffer[1024];
  const ssize_t got = ::read(file, buffer, sizeof buffer);
  ::close(file);
  return got > 0 ? std::string(buffer, static_cast<std::size_t>(got)) : text;
}

std::uint64_t size_of(const std::string& file) {
  struct stat facts {};
  return ::stat(file.c_str(), &facts) == 0 ? static_cast<std::uint64_t>(facts.st_size) : 0;
}

// Follows no links; a folder that changes meanwhile is counted as far as it can be read.
std::uint64_t size_of_folder(const std::string& folder) {
  namespace fs = std::filesystem;
  constexpr int most_files = 20'000;
  std::uint64_t sum = 0;
  int files = 0;
  std::error_code trouble;
  fs::recursive_directory_iterator it(folder, fs::directory_options::skip_permission_denied, trouble);
  for (; !trouble && it != fs::recursive_directory_iterator() && files < most_files; it.increment(trouble), ++files) {
    struct stat facts {};
    if (::lstat(it->path().c_str(), &facts) == 0 && S_ISREG(facts.st_mode))
      sum += static_cast<std::uint64_t>(facts.st_blocks) * 512;
  }
  return sum;
}

struct Seen {
  int processes = 0;
  int threads = 0;          // but for shells and the like, which only wait for a child
  std::uint64_t bytes = 0;  // an upper bound: what processes share since a fork counts for each
};

Seen look_at(const std::vector<pid_t>& tree) {
  const auto page = static_cast<std::uint64_t>(::sysconf(_SC_PAGESIZE));
  struct Looked {
    pid_t pid;
    pid_t parent;
    bool asleep;
    int threads;
  };
  std::vector<Looked> all;
  Seen seen;
  for (const pid_t pid : tree) {
    const std::string folder = "/proc/" + std::to_string(pid);
    const std::string stat = contents(folder + "/stat");
    const std::size_t name_end = stat.rfind(')');
    if (name_end == std::string::npos || name_end + 2 >= stat.size() || stat[name_end + 2] == 'Z') continue;
    std::size_t at = name_end;
    for (int field = 2; field < 20 && at != std::string::npos; ++field) at = stat.find(' ', at + 1);
    ++seen.processes;
    int parent = 0;
    if (std::sscanf(stat.c_str() + name_end + 3, "%d", &parent) != 1) parent = 0;
    all.push_back({pid, parent, stat[name_end + 2] == 'S', at == std::string::npos ? 1 : std::atoi(stat.c_str() + at)});
    unsigned long long whole = 0, resident = 0, shared = 0;
    if (std::sscanf(contents(folder + "/statm").c_str(), "%llu %llu %llu", &whole, &resident, &shared) == 3)
      seen.bytes += (resident - std::min(resident, shared)) * page;
  }
  for (const Looked& one : all) {
    const bool has_child =
        std::any_of(all.begin(), all.end(), [&](const Looked& other) { return other.parent == one.pid; });
    if (!(one.asleep && one.threads == 1 && has_child)) seen.threads += one.threads;
  }
  return seen;
}

std::uint64_t own_bytes_of(const std::vector<pid_t>& tree) {
  std::uint64_t sum = 0;
  for (const pid_t pid : tree) sum += private_bytes_of(pid);
  return sum;
}

// The program's name, as the system keeps it.
std::string names_of(const std::vector<pid_t>& processes) {
  constexpr std::size_t most = 5;
  std::string names;
  for (std::size_t i = 0; i < std::min(most, processes.size()); ++i) {
    std::string name = contents("/proc/" + std::to_string(processes[i]) + "/comm");
    while (!name.empty() && name.back() == '\n') name.pop_back();
    names += (names.empty() ? "" : ", ") + name;
  }
  return names + (processes.size() > most ? ", …" : "");
}

class Serving {
 public:
  explicit Serving(int descriptor) : descriptor_(descriptor), channel_(descriptor) {}

  [[noreturn]] void serve() {
    while (const auto message = channel_.receive()) {
      if (!channel_.send(to_message(CommandReply(answer(*message))))) break;
    }
    leave();
  }

 private:
  Ended answer(const std::string& message) {
    try {
      const Start start = start_from(message);
      scratch_ = start.scratch;
      return run(start);
    } catch (const BadMessage& error) {
      return not_begun(std::string("its order was not understood: ") + error.what(), 0);
    }
  }

  // Where posix_spawn() knows no better, the kernel's word.
  static Ended not_begun(const std::string& what, int error) {
    Ended ended;
    ended.why = Ended::Why::not_begun;
    ended.trouble = what + (error != 0 ? std::string(" (") + std::strerror(error) + ")" : "");
    return ended;
  }

  static std::vector<char*> pointers(const std::vector<std::string>& texts) {
    std::vector<char*> all;
    for (const std::string& text : texts) all.push_back(const_cast<char*>(text.c_str()));
    all.push_back(nullptr);
    return all;
  }

  // vfork and exec under the hood: no page is copied, so it takes as long however much memory anybody has.
  static int begin(const Start& start, pid_t& pid) {
    posix_spawn_file_actions_t files;
    posix_spawn_file_actions_init(&files);
    const std::string input = start.input.empty() ? "/dev/null" : start.input;
    posix_spawn_file_actions_addopen(&files, STDIN_FILENO, input.c_str(), O_RDONLY, 0);
    constexpr int fresh = O_WRONLY | O_CREAT | O_APPEND;
    posix_spawn_file_actions_addopen(&files, STDOUT_FILENO, start.output.c_str(), fresh, 0600);
    posix_spawn_file_actions_addopen(&files, STDERR_FILENO, start.errors.c_str(), fresh, 0600);
    if (!start.working_folder.empty()) posix_spawn_file_actions_addchdir_np(&files, start.working_folder.c_str());
    posix_spawnattr_t how;
    posix_spawnattr_init(&how);
    sigset_t all, none;
    sigfillset(&all);
    sigemptyset(&none);
    posix_spawnattr_setsigdefault(&how, &all);
    posix_spawnattr_setsigmask(&how, &none);
    posix_spawnattr_setflags(&how, POSIX_SPAWN_SETSIGDEF | POSIX_SPAWN_SETSIGMASK | POSIX_SPAWN_SETSID);
    std::vector<char*> words = pointers(start.words);
    std::vector<char*> environment = pointers(start.environment);
    const int error = ::posix_spawn(&pid, start.words.front().c_str(), &files, &how, words.data(), environment.data());
    posix_spawnattr_destroy(&how);
    posix_spawn_file_actions_destroy(&files);
    return error;
  }

  // Opening a pipe waits until somebody writes into it, for ever perhaps.
  static bool is_input(const std::string& path) {
    struct stat facts {};
    return path.empty() || ::stat(path.c_str(), &facts) != 0 || S_ISREG(facts.st_mode) || S_ISCHR(facts.st_mode);
  }

  // A missing file for input, or a missing folder, would look like a missing program.
  static std::string what_is_missing(const Start& start, int error) {
    const auto there = [](const std::string& path, int mode) {
      return path.empty() || ::access(path.c_str(), mode) == 0;
    };
    if (!there(start.working_folder, X_OK)) return "its working folder " + start.working_folder + " cannot be entered";
    if (!there(start.input, R_OK)) return "its input " + start.input + " cannot be read";
    if (error == ENOEXEC)
      return start.words.front() + " is no program this system can run; a script needs a first line such as #!/bin/sh";
    return start.words.front() + " could not be begun";
  }

  Ended run(const Start& start) {
    pid_t pid = 0;
    if (!is_input(start.input))
      return not_begun("its input " + start.input + " is no file (a pipe, a socket or a folder): give a file", 0);
    const std::int64_t began_ns = now_ns();
    const int error = begin(start, pid);
    if (error != 0) return not_begun(what_is_missing(start, error), error);
    if (start.announce) channel_.send(to_message(CommandReply(Started{pid})));
    Ended ended;
    ended.began_ns = began_ns;
    wait_for(pid, start, ended);
    rusage used{};
    while (::wait4(pid, &ended.status, 0, &used) < 0 && errno == EINTR) {
    }
    add(ended, used);
    // Before the program was put in its place the process was this one.
    rusage own{};
    ::getrusage(RUSAGE_SELF, &own);
    if (used.ru_maxrss > own.ru_maxrss) ended.peak_bytes = static_cast<std::uint64_t>(used.ru_maxrss) * 1024;
    look_for_leftovers(start, ended);
    // Of a call that was over before anybody looked.
    if (start.output_bytes > 0 && ended.why == Ended::Why::by_itself && written_by(start, true) > start.output_bytes)
      ended.why = Ended::Why::output;
    return ended;
  }

  static std::uint64_t written_by(const Start& start, bool also_into_folder) {
    const std::uint64_t printed = std::max(size_of(start.output), size_of(start.errors));
    return also_into_folder && !start.watched.empty() ? std::max(printed, size_of_folder(start.watched)) : printed;
  }

  void wait_for(pid_t pid, const Start& start, Ended& ended) {
    const int watch = static_cast<int>(::syscall(SYS_pidfd_open, pid, 0));
    double asked_s = -1;  // so long since it was asked to end
    std::int64_t looked_ns = ended.began_ns;
    while (true) {
      pollfd events[2] = {{watch, POLLIN, 0}, {descriptor_, 0, 0}};
      const int ready = watch >= 0 ? ::poll(events, 2, look_every_ms) : (::usleep(1000), 0);
      const std::int64_t now = now_ns();
      if (watch >= 0 ? (ready > 0 && events[0].revents != 0) : has_ended(pid)) {
        ended.wall_s = static_cast<double>(now - ended.began_ns) * 1e-9;
        ended.paused = ended.paused || static_cast<double>(now - looked_ns) * 1e-9 > late_look_s;
        break;
      }
      if (ready > 0 && (events[1].revents & (POLLHUP | POLLERR)) != 0) leave();  // nobody waits for it any more
      if (ready > 0) continue;
      if (static_cast<double>(now - looked_ns) * 1e-9 < look_every_ms * 0.5e-3) continue;
      ended.paused = ended.paused || static_cast<double>(now - looked_ns) * 1e-9 > late_look_s;
      looked_ns = now;
      ++ended.looks;
      look(start, ended);
      if (asked_s >= 0) {
        asked_s += look_every_ms * 1e-3;
        if (asked_s > asked_for_s) {
          ended.ignored = true;
          end_all_below([pid](pid_t other) { return other == pid; });
          ::kill(pid, SIGKILL);
          asked_s = 0;
        }
      } else if (ended.why != Ended::Why::by_itself) {
        for (const pid_t one : living_descendants()) ::kill(one, SIGTERM);
        ::kill(pid, SIGTERM);
        asked_s = 0;
      }
    }
    if (watch >= 0) ::close(watch);
  }

  // Sets why it is to be ended, if it is.
  void look(const Start& start, Ended& ended) {
    const std::vector<pid_t> tree = living_descendants();
    const Seen seen = look_at(tree);
    ended.most_processes = std::max(ended.most_processes, seen.processes);
    ended.most_threads = std::max(ended.most_threads, seen.threads);
    std::uint64_t bytes = seen.bytes;
    // What counts double is told apart only where it matters, since that takes long.
    if (start.memory_bytes > 0 && bytes > start.memory_bytes && seen.processes > 1)
      bytes = std::min(bytes, own_bytes_of(tree));
    ended.tree_bytes = std::max(ended.tree_bytes, bytes);
    if (ended.why != Ended::Why::by_itself) return;
    if (start.memory_bytes > 0 && bytes > start.memory_bytes) ended.why = Ended::Why::memory;
    if (start.output_bytes > 0 && written_by(start, ended.looks % looks_between_folders == 0) > start.output_bytes)
      ended.why = Ended::Why::output;
    if (start.limit_s > 0 && ended.looks * look_every_ms * 1e-3 > start.limit_s) ended.why = Ended::Why::time;
  }

  // What the command began and did not wait for has come to this process.
  void look_for_leftovers(const Start& start, Ended& ended) {
    const auto collect = [&] {
      rusage used{};
      while (::wait4(-1, nullptr, WNOHANG, &used) > 0) add(ended, used);
    };
    collect();
    if (nobody_below()) return;
    const std::int64_t ended_ns = now_ns();
    std::vector<pid_t> left = living_descendants();
    ended.left = static_cast<int>(left.size());
    ended.left_names = names_of(left);
    double living_before = 0;  // what they used until then is no work that went on
    for (const pid_t pid : left) living_before += cpu_s_of(pid);
    const bool by_itself = ended.why == Ended::Why::by_itself;
    double living_s = living_before;
    while (by_itself && !nobody_below() && static_cast<double>(now_ns() - ended_ns) * 1e-9 < start.patience_s) {
      ::usleep(2000);
      left = living_descendants();
      ended.left = std::max(ended.left, static_cast<int>(left.size()));
      if (!left.empty()) ended.left_names = names_of(left);  // one that was just forked has its parent's name at first
      double now_s = 0;
      for (const pid_t pid : left) now_s += cpu_s_of(pid);
      living_s = std::max(living_s, now_s);
      collect();
    }
    ended.left_for_s = static_cast<double>(now_ns() - ended_ns) * 1e-9;
    ended.left_cpu_s = std::max(0.0, living_s - living_before);
    ended.left_to_the_end = !nobody_below();
    if (ended.left == 0 && ended.left_to_the_end) ended.left = 1;
    end_all_below();
    collect();
  }

  // Where the run itself is gone, nobody else removes what its trials left.
  [[noreturn]] void leave() {
    end_all_below();
    std::error_code trouble;
    if (::getppid() != parent_ && !scratch_.empty()) std::filesystem::remove_all(scratch_, trouble);
    ::_exit(0);
  }

  int descriptor_;
  Channel channel_;
  pid_t parent_ = ::getppid();
  std::string scratch_;
};

}  // namespace

void serve_commands(Channel run) {
  ::setsid();
  default_signals();
  ::signal(SIGINT, SIG_IGN);
  ::signal(SIGPIPE, SIG_IGN);
  no_core_file();
  adopt_orphans();
  // What this process has open, the record's file among it, is not for commands.
  constexpr int kept = 3;
  const int channel = run.release();
  if (channel != kept) {
    ::dup2(channel, kept);
    ::fcntl(kept, F_SETFD, FD_CLOEXEC);
  }
  ::syscall(SYS_close_range, kept + 1u, ~0u, 0u);
  try {
    Serving(kept).serve();
  } catch (...) {
  }
  end_all_below();
  ::_exit(1);
}

}  // namespace antcrew::internal
