#include "antcrew/machine/run_delay.hpp"

#include <fcntl.h>
#include <sys/resource.h>
#include <unistd.h>

#include <cstdio>
#include <cstdlib>

namespace antcrew::internal {

namespace {

std::int64_t delay_in(const char* path) noexcept {
  const int file = ::open(path, O_RDONLY | O_CLOEXEC);
  if (file < 0) return -1;
  char text[96];
  const ssize_t got = ::read(file, text, sizeof text - 1);
  ::close(file);
  if (got <= 0) return -1;
  text[got] = '\0';
  char* after_run = nullptr;
  std::strtoll(text, &after_run, 10);  // time on a processor: the thread's own clock is finer
  char* after_delay = nullptr;
  const long long delay = std::strtoll(after_run, &after_delay, 10);
  return after_delay == after_run ? -1 : delay;
}

}  // namespace

std::int64_t run_delay_ns() noexcept {
  return delay_in("/proc/thread-self/schedstat");
}

std::int64_t run_delay_ns(std::uint32_t thread) noexcept {
  char path[64];
  std::snprintf(path, sizeof path, "/proc/self/task/%u/schedstat", thread);
  return delay_in(path);
}

std::int64_t own_switches() noexcept {
  rusage used{};
  return ::getrusage(RUSAGE_THREAD, &used) == 0 ? used.ru_nvcsw : 0;
}

}  // namespace antcrew::internal
