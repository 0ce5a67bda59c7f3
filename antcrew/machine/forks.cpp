#include "antcrew/machine/forks.hpp"

#include <pthread.h>
#include <sys/syscall.h>
#include <unistd.h>

namespace antcrew::internal {
namespace {

void one_deeper() {
  fork_depth_now.fetch_add(1, std::memory_order_relaxed);
}

}  // namespace

bool count_forks() noexcept {
  static const bool counted = pthread_atfork(nullptr, nullptr, one_deeper) == 0;
  return counted;
}

std::uint32_t kernel_thread() noexcept {
  struct Known {
    int depth = -1;
    std::uint32_t number = 0;
  };
  thread_local Known known;
  if (known.depth != fork_depth()) known = {fork_depth(), static_cast<std::uint32_t>(::syscall(SYS_gettid))};
  return known.number;
}

}  // namespace antcrew::internal
