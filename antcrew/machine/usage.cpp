#include "antcrew/machine/usage.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <optional>
#include <string>

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/forks.hpp"

namespace antcrew::machine_layer {
namespace {

double seconds(const timeval& t) {
  return static_cast<double>(t.tv_sec) + static_cast<double>(t.tv_usec) * 1e-6;
}

// A kernel file, whole; empty when it is gone.
std::string contents(const std::string& path) {
  const int file = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (file < 0) return {};
  constexpr std::size_t step = 4096;
  constexpr std::size_t longest_entry = 128;  // one that does not fit is left for the next reading
  std::string text;
  std::size_t length = 0;
  std::size_t got = step;
  while (got + longest_entry > step) {
    text.resize(length + step);
    const ssize_t read = ::read(file, text.data() + length, step);
    got = read > 0 ? static_cast<std::size_t>(read) : 0;
    length += got;
  }
  ::close(file);
  text.resize(length);
  return text;
}

// Numbers that name the entries of a folder of the kernel's, such as threads.
std::vector<int> numbered_entries(const std::string& path) {
  std::vector<int> numbers;
  DIR* folder = ::opendir(path.c_str());
  if (folder == nullptr) return numbers;
  while (const dirent* entry = ::readdir(folder)) {
    if (const int number = std::atoi(entry->d_name); number > 0) numbers.push_back(number);
  }
  ::closedir(folder);
  return numbers;
}

bool has_children() {
  siginfo_t info{};
  return ::waitid(P_ALL, 0, &info, WEXITED | WNOHANG | WNOWAIT) == 0 || errno != ECHILD;
}

// A field of a "stat" file by its number in the kernel's documentation, from the flags (9) on.
std::optional<long> stat_field(const std::string& folder, int number) {
  const std::string text = contents(folder + "/stat");
  std::size_t at = text.rfind(')');  // its name may hold blanks; field 3 comes behind
  for (int field = 2; field < number && at != std::string::npos; ++field) at = text.find(' ', at + 1);
  if (at == std::string::npos) return std::nullopt;
  return std::strtol(text.c_str() + at, nullptr, 10);
}

// The kernel numbers every process's and thread's CPU clock after it.
constexpr unsigned whole_process = 2;
constexpr unsigned one_thread = 6;
double cpu_clock_s(pid_t id, unsigned kind) {
  timespec t{};
  if (::clock_gettime(static_cast<clockid_t>((~static_cast<unsigned>(id) << 3) | kind), &t) != 0) return 0;
  return static_cast<double>(t.tv_sec) + static_cast<double>(t.tv_nsec) * 1e-9;
}

void add_descendants(pid_t of, std::vector<pid_t>& found) {
  const std::string tasks = "/proc/" + std::to_string(of) + "/task";
  for (const int thread : numbered_entries(tasks)) {
    const std::string children = contents(tasks + "/" + std::to_string(thread) + "/children");
    for (const char* at = children.c_str(); *at != '\0';) {
      char* end = nullptr;
      const long pid = std::strtol(at, &end, 10);
      if (end == at) break;
      at = end;
      found.push_back(static_cast<pid_t>(pid));
      add_descendants(static_cast<pid_t>(pid), found);
    }
  }
}

// schedstat: time run, time runnable but not running (ns), time slices.
struct ThreadTimes {
  double run_s = 0;
  double delay_s = 0;
};
ThreadTimes living_threads() {
  ThreadTimes sum;
  for (const int thread : numbered_entries("/proc/self/task")) {
    const std::string text = contents("/proc/self/task/" + std::to_string(thread) + "/schedstat");
    if (text.empty()) continue;
    char* end = nullptr;
    sum.run_s += static_cast<double>(std::strtoull(text.c_str(), &end, 10)) * 1e-9;
    sum.delay_s += static_cast<double>(std::strtoull(end, nullptr, 10)) * 1e-9;
  }
  return sum;
}

std::uint64_t status_bytes(const char* field) {
  const std::string text = contents("/proc/self/status");
  const std::size_t at = text.find(field);
  return at == std::string::npos ? 0 : std::strtoull(text.c_str() + at + std::strlen(field), nullptr, 10) * 1024;
}

void add(Usage& usage, int who) {
  rusage r{};
  if (::getrusage(who, &r) != 0) return;
  usage.user_s += seconds(r.ru_utime);
  usage.system_s += seconds(r.ru_stime);
  usage.switches_voluntary += r.ru_nvcsw;
  usage.switches_forced += r.ru_nivcsw;
  usage.faults_minor += r.ru_minflt;
  usage.faults_major += r.ru_majflt;
}

// Reading a thread's own clock makes the kernel add up what it ran since its last tick or switch.
void bring_times_up_to_date() {
  if (thread_count() <= 1) return;
  for (const int thread : numbered_entries("/proc/self/task")) cpu_clock_s(thread, one_thread);
}

void add_own(Usage& usage) {
  usage.caller_s = static_cast<double>(thread_cpu_ns()) * 1e-9;
  bring_times_up_to_date();
  add(usage, RUSAGE_SELF);
}

void add_others(Usage& usage) {
  const auto whole_s = static_cast<double>(process_cpu_ns()) * 1e-9;  // brings the threads' own times up to date, too
  const ThreadTimes living = living_threads();
  usage.run_delay_s = living.delay_s;
  usage.ended_threads_cpu_s = whole_s - living.run_s;
  add(usage, RUSAGE_CHILDREN);
  if (!has_children()) return;
  // Their user and system time are not told apart to the nanosecond.
  for (const pid_t pid : descendants(true)) usage.user_s += cpu_clock_s(pid, whole_process);
}

}  // namespace

Usage usage_before() {
  Usage usage;
  add_others(usage);
  add_own(usage);
  return usage;
}

Usage usage_after() {
  Usage usage;
  add_own(usage);
  add_others(usage);
  return usage;
}

bool Usage::run_delay_known() const noexcept {
  constexpr double negligible_s = 20e-6;
  constexpr double negligible_share = 0.02;
  return ended_threads_cpu_s <= std::max(negligible_s, negligible_share * cpu_s());
}

double cpu_s_of(pid_t process) noexcept {
  return process > 0 ? cpu_clock_s(process, whole_process) : 0;
}

double other_threads_cpu_s() {
  bring_times_up_to_date();
  return static_cast<double>(process_cpu_ns() - thread_cpu_ns()) * 1e-9;
}

Usage operator-(const Usage& later, const Usage& earlier) {
  Usage d;
  // A process that ended without being waited for takes its times along: never below zero.
  d.user_s = std::max(0.0, later.user_s - earlier.user_s);
  d.system_s = std::max(0.0, later.system_s - earlier.system_s);
  d.caller_s = std::max(0.0, later.caller_s - earlier.caller_s);
  d.run_delay_s = std::max(0.0, later.run_delay_s - earlier.run_delay_s);
  d.ended_threads_cpu_s = std::max(0.0, later.ended_threads_cpu_s - earlier.ended_threads_cpu_s);
  d.switches_voluntary = later.switches_voluntary - earlier.switches_voluntary;
  d.switches_forced = later.switches_forced - earlier.switches_forced;
  d.faults_minor = later.faults_minor - earlier.faults_minor;
  d.faults_major = later.faults_major - earlier.faults_major;
  return d;
}

bool reset_peak_memory() {
  const int file = ::open("/proc/self/clear_refs", O_WRONLY | O_CLOEXEC);
  if (file < 0) return false;
  const bool done = ::write(file, "5", 1) == 1;
  ::close(file);
  return done;
}

std::uint64_t peak_memory_bytes() {
  return status_bytes("VmHWM:");
}
std::uint64_t resident_bytes() {
  return status_bytes("VmRSS:");
}
namespace {

// The numbers of /proc/self/statm, in pages: size, resident, shared, text, library, data and stack.
std::array<std::uint64_t, 6> memory_pages() {
  std::array<std::uint64_t, 6> pages{};
  const int file = ::open("/proc/self/statm", O_RDONLY | O_CLOEXEC);
  if (file < 0) return pages;
  char text[160] = {};
  const ssize_t got = ::read(file, text, sizeof text - 1);
  ::close(file);
  char* at = text;
  for (std::size_t k = 0; k < pages.size() && got > 0; ++k) pages[k] = std::strtoull(at, &at, 10);
  return pages;
}

std::uint64_t page_bytes() {
  static const auto bytes = static_cast<std::uint64_t>(::sysconf(_SC_PAGESIZE));
  return bytes;
}

}  // namespace

std::uint64_t private_bytes_now() {
  const auto pages = memory_pages();
  return pages[2] > pages[1] ? 0 : (pages[1] - pages[2]) * page_bytes();
}
std::int64_t minor_faults() noexcept {
  rusage used{};
  ::getrusage(RUSAGE_SELF, &used);
  return used.ru_minflt;
}
std::int64_t pages_taken_back() {
  const int file = ::open("/proc/vmstat", O_RDONLY | O_CLOEXEC);
  if (file < 0) return -1;
  std::array<char, 32 * 1024> text;
  std::size_t length = 0;
  for (ssize_t got = 0;
       length < text.size() - 1 && (got = ::read(file, text.data() + length, text.size() - 1 - length)) > 0;)
    length += static_cast<std::size_t>(got);
  ::close(file);
  text[length] = '\0';
  constexpr const char* field = "\npgreuse ";
  const char* at = std::strstr(text.data(), field);
  return at == nullptr ? -1 : std::atoll(at + std::strlen(field));
}
std::uint64_t virtual_data_bytes() {
  return memory_pages()[5] * page_bytes();
}

int thread_count() {
  struct stat folder {};
  return ::stat("/proc/self/task", &folder) == 0 ? static_cast<int>(folder.st_nlink) - 2 : 1;
}

int exiting_threads() {
  constexpr unsigned long exiting = 0x4;  // PF_EXITING
  int count = 0;
  for (const int thread : numbered_entries("/proc/self/task")) {
    const auto flags = stat_field("/proc/self/task/" + std::to_string(thread), 9);
    if (flags && (static_cast<unsigned long>(*flags) & exiting) != 0) ++count;
  }
  return count;
}

std::vector<int> processors_last_used() {
  constexpr int processor = 39;
  const int self = static_cast<int>(::getpid());
  std::vector<int> found{static_cast<int>(stat_field("/proc/self", processor).value_or(-1))};
  if (thread_count() > 1) {
    for (const int thread : numbered_entries("/proc/self/task")) {
      if (thread == self) continue;
      if (const auto last = stat_field("/proc/self/task/" + std::to_string(thread), processor))
        found.push_back(static_cast<int>(*last));
    }
  }
  if (has_children()) {
    for (const pid_t pid : descendants(false)) {
      if (const auto last = stat_field("/proc/" + std::to_string(pid), processor))
        found.push_back(static_cast<int>(*last));
    }
  }
  return found;
}

// The kernel's letter; 'Z' for what has ended. In the file the name in brackets may hold blanks, so look behind the
// last bracket.
char state_of(const std::string& folder) {
  const std::string text = contents(folder + "/stat");
  const std::size_t bracket = text.rfind(')');
  return bracket == std::string::npos || bracket + 2 >= text.size() ? 'Z' : text[bracket + 2];
}

bool has_ended(pid_t pid) {
  return state_of("/proc/" + std::to_string(pid)) == 'Z';
}

int runnable_besides_caller() {
  const auto runnable_in = [](const std::string& folder) {
    const std::vector<int> threads = numbered_entries(folder + "/task");
    return static_cast<int>(std::count_if(threads.begin(), threads.end(), [&](int thread) {
      return thread != static_cast<int>(internal::kernel_thread()) &&
             state_of(folder + "/task/" + std::to_string(thread)) == 'R';
    }));
  };
  int count = thread_count() > 1 ? runnable_in("/proc/self") : 0;
  if (has_children()) {
    for (const pid_t pid : descendants(false)) count += runnable_in("/proc/" + std::to_string(pid));
  }
  return count;
}

bool forked_ever() {
  rusage ended{};
  return has_children() || (::getrusage(RUSAGE_CHILDREN, &ended) == 0 && ended.ru_minflt > 0);
}

std::vector<pid_t> descendants(bool ended_too) {
  std::vector<pid_t> found;
  add_descendants(::getpid(), found);
  if (!ended_too) found.erase(std::remove_if(found.begin(), found.end(), has_ended), found.end());
  return found;
}

}  // namespace antcrew::machine_layer
