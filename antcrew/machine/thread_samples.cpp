#include "antcrew/machine/thread_samples.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <linux/futex.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <algorithm>
#include <cctype>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <string>

namespace antcrew::internal {
namespace {

using In = SeenThread::In;

// A futex is the C library's mutex only with that operation and that value (2: locked, and others wait); whatever else
// waits by the same call waits for other threads in another way.
In in_futex(std::uint64_t operation, std::uint64_t value) noexcept {
  constexpr std::uint64_t flags = FUTEX_PRIVATE_FLAG | FUTEX_CLOCK_REALTIME;
  const std::uint64_t kind = operation & ~flags;
  const bool own = (operation & FUTEX_PRIVATE_FLAG) != 0;
  constexpr std::uint64_t runtime_lock = 0xffffffff;  // a compiler's own, contended
  if (kind == FUTEX_WAIT && own && (value == 2 || value == runtime_lock)) return In::lock;
  if (kind == FUTEX_LOCK_PI) return In::lock;
  // The C library waits for a thread's end on the word that holds its number, which the kernel clears: never private.
  // Its locks for readers and writers, and those with a time limit, wait on words of 2 and 3; a condition on one of 0.
  if (kind == FUTEX_WAIT_BITSET && own && (value == 2 || value == 3)) return In::lock;
  if (kind == FUTEX_WAIT_BITSET) return own ? In::signal : value == 0 ? In::word : In::join;
  return In::word;
}

// Numbers of calls differ between kinds of processors; those that one of them lacks are left out there.
bool one_of(long call, std::initializer_list<long> calls) noexcept {
  return std::find(calls.begin(), calls.end(), call) != calls.end();
}

In in_call(long call, const std::uint64_t* arguments) noexcept {
  if (call == SYS_futex) return in_futex(arguments[1], arguments[2]);
  if (one_of(call, {SYS_nanosleep, SYS_clock_nanosleep})) return In::sleep;
  if (one_of(call, {SYS_wait4, SYS_waitid})) return In::child;
#ifdef SYS_pause
  if (call == SYS_pause) return In::sleep;
  // Waiting for no file at all is a sleep.
  if (call == SYS_poll && arguments[1] == 0) return In::sleep;
  if (call == SYS_select && arguments[0] == 0) return In::sleep;
#endif
  if ((call == SYS_ppoll && arguments[1] == 0) || (call == SYS_pselect6 && arguments[0] == 0)) return In::sleep;
  return In::input;
}

ssize_t read_again(int file, char* text, std::size_t size) noexcept {
  const ssize_t got = ::pread(file, text, size - 1, 0);
  text[std::max<ssize_t>(got, 0)] = '\0';
  return got;
}

int open_of(pid_t process, pid_t thread, const char* name) noexcept {
  char path[80];
  std::snprintf(path, sizeof path, "/proc/%d/task/%d/%s", process, thread, name);
  return ::open(path, O_RDONLY | O_CLOEXEC);
}

// The letter after the name in brackets, which may have brackets of its own.
char state_in(const char* line) noexcept {
  const char* end = std::strrchr(line, ')');
  return end == nullptr || end[1] == '\0' ? '?' : end[2];
}

// Of more threads the files are opened for each look: descriptors are few.
constexpr std::size_t most_kept_open = 100;

void add_children(int file, std::vector<pid_t>& children) {
  char text[4096];
  if (file < 0 || read_again(file, text, sizeof text) <= 0) return;
  for (char* at = text; *at != '\0';) {
    char* after = nullptr;
    const long child = std::strtol(at, &after, 10);
    if (after == at) break;
    children.push_back(static_cast<pid_t>(child));
    at = after;
  }
}

}  // namespace

// The folder of a process's threads, kept open.
struct ThreadSamples::Folder {
  DIR* open;
  bool seen = true;
  explicit Folder(pid_t process) : open(::opendir(("/proc/" + std::to_string(process) + "/task").c_str())) {}
  ~Folder() {
    if (open != nullptr) ::closedir(open);
  }
  Folder(const Folder&) = delete;
  Folder& operator=(const Folder&) = delete;

  void add_threads(std::vector<pid_t>& threads) const {
    if (open == nullptr) return;
    ::rewinddir(open);
    while (const dirent* entry = ::readdir(open)) {
      if (std::isdigit(static_cast<unsigned char>(entry->d_name[0])) != 0) threads.push_back(std::atoi(entry->d_name));
    }
  }
};

SeenThread::In asleep_in(const char* line, std::uint64_t& address) noexcept {
  if (std::strncmp(line, "running", 7) == 0) return In::ready;
  char* at = nullptr;
  const long call = std::strtol(line, &at, 10);
  if (at == line) return In::not_told;
  std::uint64_t arguments[3] = {};
  if (call < 0) return std::strtoull(at, nullptr, 16) == 0 ? In::ended : In::memory;  // an ended thread has no stack
  for (std::uint64_t& argument : arguments) argument = std::strtoull(at, &at, 16);
  const In in = in_call(call, arguments);
  // A lock for readers and writers has two such words, side by side.
  if (in == In::lock || in == In::word) address = arguments[0] & ~std::uint64_t{7};
  return in;
}

ThreadSamples::ThreadSamples(pid_t root) : root_(root) {}

ThreadSamples::~ThreadSamples() {
  for (auto& [key, files] : known_) close(files);
}

void ThreadSamples::close(Files& files) noexcept {
  for (int* file : {&files.state, &files.times, &files.call, &files.children}) {
    if (*file >= 0) ::close(*file);
    *file = -1;
  }
}

bool ThreadSamples::look_at_thread(pid_t process, pid_t thread, Files& files) {
  if (files.times < 0) {
    files = {open_of(process, thread, "stat"), open_of(process, thread, "schedstat"),
             open_of(process, thread, "syscall"), open_of(process, thread, "children"), true};
  }
  files.seen = true;
  SeenThread seen;
  seen.process = process;
  seen.thread = thread;
  char text[512];
  if (files.call >= 0 && read_again(files.call, text, sizeof text) > 0) {
    seen.in = asleep_in(text, seen.address);
  } else if (files.state >= 0 && read_again(files.state, text, sizeof text) > 0) {
    const char state = state_in(text);
    seen.in = state == 'R' ? In::ready : state == 'Z' || state == 'X' ? In::ended : In::not_told;
    refused_ = refused_ || seen.in == In::not_told;
  } else {
    return false;
  }
  if (seen.in == In::ready && files.times >= 0 && read_again(files.times, text, sizeof text) > 0) {
    char* after = nullptr;
    seen.ran_ns = std::strtoll(text, &after, 10);
    seen.waited_ns = std::strtoll(after, nullptr, 10);
  }
  threads_.push_back(seen);
  return true;
}

void ThreadSamples::look_at_process(pid_t process) {
  std::unique_ptr<Folder>& folder = folders_[process];
  if (folder == nullptr) folder = std::make_unique<Folder>(process);
  folder->seen = true;
  std::vector<pid_t> threads;
  std::vector<pid_t> children;
  folder->add_threads(threads);
  for (const pid_t thread : threads) {
    Files& files = known_[{process, thread}];
    const bool there = look_at_thread(process, thread, files);
    add_children(files.children, children);
    if (!there || known_.size() > most_kept_open) close(files);
  }
  for (const pid_t child : children) look_at_process(child);
}

const std::vector<SeenThread>& ThreadSamples::now() {
  threads_.clear();
  for (auto& [key, files] : known_) files.seen = false;
  for (auto& [process, folder] : folders_) folder->seen = false;
  look_at_process(root_);
  for (auto at = known_.begin(); at != known_.end();) {
    if (at->second.seen && at->second.times >= 0) {
      ++at;
      continue;
    }
    close(at->second);
    at = known_.erase(at);
  }
  std::erase_if(folders_, [](const auto& known) { return !known.second->seen; });
  std::sort(threads_.begin(), threads_.end(), [](const SeenThread& a, const SeenThread& b) {
    return std::pair(a.process, a.thread) < std::pair(b.process, b.thread);
  });
  return threads_;
}

}  // namespace antcrew::internal
