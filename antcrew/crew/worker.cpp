#include "antcrew/crew/worker.hpp"

#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <cstdint>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/internal/ancestry.hpp"

namespace antcrew {

using namespace base_layer;

int this_worker() noexcept {
  return internal::current_worker_number;
}

namespace internal {
namespace {

// The process below whose folder all scratch of it and of its workers lies; settled for the processes at this depth.
constinit std::atomic<pid_t> base{0};
constinit std::atomic<int> base_depth{-1};
constinit std::atomic<bool> scratch_used{false};
constinit std::atomic<unsigned> folders_made{0};

std::string temporary() {
  const char* chosen = std::getenv("TMPDIR");
  return chosen != nullptr && chosen[0] == '/' ? chosen : "/tmp";
}
std::string folder_of(pid_t process) {
  return temporary() + "/antcrew-scratch-" + std::to_string(process);
}

// All that is in an open folder, links as links. What cannot be removed by its owner was made so on purpose. By the
// system's calls alone: when a guard was forked, another thread may have held any lock, an allocator's among them.
void empty_out(int folder) noexcept {
  constexpr std::size_t length_at = 16, name_at = 19;  // of a linux_dirent64
  alignas(std::uint64_t) char entries[4096];
  bool removed = true;
  while (std::exchange(removed, false)) {
    ::lseek(folder, 0, SEEK_SET);
    long got = 0;
    while ((got = ::syscall(SYS_getdents64, folder, entries, sizeof entries)) > 0) {
      unsigned short length = 0;
      for (long at = 0; at < got; at += length) {
        std::memcpy(&length, entries + at + length_at, sizeof length);
        const char* name = entries + at + name_at;
        if (std::strcmp(name, ".") == 0 || std::strcmp(name, "..") == 0) continue;
        bool gone = ::unlinkat(folder, name, 0) == 0;
        const int inside = gone ? -1 : ::openat(folder, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
        if (inside >= 0) {
          empty_out(inside);
          ::close(inside);
          gone = ::unlinkat(folder, name, AT_REMOVEDIR) == 0;
        }
        removed = removed || gone;
      }
    }
  }
}
void remove(const char* folder) noexcept {
  const int inside = ::open(folder, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
  if (inside < 0) return;
  empty_out(inside);
  ::close(inside);
  ::rmdir(folder);
}

[[noreturn]] void refuse(const std::string& folder, int fault) {
  could_not_run("crew.scratch", folder,
                std::string("a worker's folder could not be made (") + std::strerror(fault) + ")",
                "set TMPDIR to a folder that can be written to");
}

int open_process(pid_t process) noexcept {
  return static_cast<int>(::syscall(SYS_pidfd_open, process, 0));
}

void close_all_from(unsigned first) noexcept {
  if (::syscall(SYS_close_range, first, ~0u, 0u) == 0) return;
  const long most = std::min(::sysconf(_SC_OPEN_MAX), 65'536L);
  for (long number = first; number < most; ++number) ::close(static_cast<int>(number));
}

// A process that outlives the watched one only to remove its folder. It belongs to nobody and holds nothing open.
void guard(pid_t watched, const std::string& folder) {
  const int end = open_process(watched);
  if (end < 0 && ::kill(watched, 0) != 0 && errno == ESRCH) return remove(folder.c_str());  // gone already
  const pid_t between = ::fork();
  if (between == 0) {
    if (::fork() != 0) ::_exit(0);
    ::setsid();
    sigset_t all;
    sigfillset(&all);
    ::sigprocmask(SIG_SETMASK, &all, nullptr);
    if (end >= 0) ::dup2(end, 0);
    close_all_from(end >= 0 ? 1 : 0);
    if (::chdir("/") != 0) ::_exit(1);
    if (end >= 0) {
      pollfd ended{0, POLLIN, 0};
      while (::poll(&ended, 1, -1) < 0 && errno == EINTR) {
      }
    } else {
      // The system gives no descriptor for a process: its end is asked for.
      while (::kill(watched, 0) == 0 || errno != ESRCH) ::poll(nullptr, 0, 500);
    }
    remove(folder.c_str());
    ::_exit(0);
  }
  if (between > 0) {
    int status = 0;
    while (::waitpid(between, &status, 0) < 0 && errno == EINTR) {
    }
  }
  if (end >= 0) ::close(end);
}

// The base's own process or any worker of it may be the first to ask; that one sees to the guard.
void make_base(pid_t of) {
  const std::string folder = folder_of(of);
  if (::mkdir(folder.c_str(), 0700) == 0) return guard(of, folder);
  if (errno != EEXIST) refuse(folder, errno);
  // Its name can be guessed, so somebody else may have made it first, or put a link there.
  struct stat found {};
  if (::lstat(folder.c_str(), &found) != 0) refuse(folder, errno);
  const bool ours = S_ISDIR(found.st_mode) && found.st_uid == ::geteuid() && (found.st_mode & 0077) == 0;
  if (!ours) {
    could_not_run("crew.scratch", folder, "there is such a folder already, and others than this user can change it",
                  "remove it, or set TMPDIR to a folder of your own");
  }
}

class Scratch {
 public:
  ~Scratch() { drop(); }
  void drop() noexcept {
    if (!folder_.empty() && maker_ == ::getpid()) remove(folder_.c_str());
    folder_.clear();
  }
  const std::string& folder() {
    if (folder_.empty() || maker_ != ::getpid()) make();
    return folder_;
  }

 private:
  void make() {
    prepare_scratch();
    make_base(base.load());
    maker_ = ::getpid();
    folder_ = folder_of(base.load()) + "/" + std::to_string(maker_) + "-" + std::to_string(folders_made.fetch_add(1));
    scratch_used.store(true, std::memory_order_relaxed);
    if (::mkdir(folder_.c_str(), 0700) == 0) return;
    const int fault = errno;
    refuse(std::exchange(folder_, {}), fault);
  }

  std::string folder_;
  pid_t maker_ = 0;
};

Scratch& current_scratch() {
  thread_local Scratch scratch;
  return scratch;
}

}  // namespace

// Anew in each process that was not forked by a crew. Several threads may come at once: they write the same.
void prepare_scratch() noexcept {
  if (base_depth.load() == fork_depth()) return;
  base.store(::getpid());
  base_depth.store(fork_depth());
}
void adopt_scratch() noexcept {
  base_depth.store(fork_depth());
}

void drop_own_scratch() noexcept {
  current_scratch().drop();
}
bool used_scratch() noexcept {
  return scratch_used.load(std::memory_order_relaxed);
}

void remove_scratch_of(int process) noexcept {
  const std::string below = folder_of(base.load());
  const std::string mine = std::to_string(process) + "-";
  std::error_code ignored;
  for (std::filesystem::directory_iterator at(below, ignored), end; at != end && !ignored; at.increment(ignored)) {
    if (at->path().filename().string().rfind(mine, 0) == 0) remove(at->path().c_str());
  }
}

void remove_all_scratch_of(int process) noexcept {
  remove(folder_of(process).c_str());
}

}  // namespace internal

std::string scratch_folder() {
  return internal::current_scratch().folder();
}

}  // namespace antcrew
