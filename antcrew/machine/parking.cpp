#include "antcrew/machine/parking.hpp"

#include <linux/futex.h>
#include <sched.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

#include <climits>

namespace antcrew::internal {
namespace {

constinit thread_local bool sleeping = false;

struct Sleeping {
  Sleeping() noexcept { sleeping = true; }
  ~Sleeping() { sleeping = false; }
  Sleeping(const Sleeping&) = delete;
  Sleeping& operator=(const Sleeping&) = delete;
};

}  // namespace

bool sleeps_here() noexcept {
  return sleeping;
}

void sleep_while(std::atomic<std::uint32_t>& word, std::uint32_t value) noexcept {
  static_assert(sizeof(word) == sizeof(std::uint32_t));
  const Sleeping here;
  syscall(SYS_futex, &word, FUTEX_WAIT_PRIVATE, value, nullptr, nullptr, 0);
}

void sleep_while(std::atomic<std::uint32_t>& word, std::uint32_t value, std::int64_t longest_ns) noexcept {
  const timespec longest{longest_ns / 1'000'000'000, longest_ns % 1'000'000'000};
  const Sleeping here;
  syscall(SYS_futex, &word, FUTEX_WAIT_PRIVATE, value, &longest, nullptr, 0);
}

void wake_one(std::atomic<std::uint32_t>& word) noexcept {
  syscall(SYS_futex, &word, FUTEX_WAKE_PRIVATE, 1, nullptr, nullptr, 0);
}

void wake_all(std::atomic<std::uint32_t>& word) noexcept {
  syscall(SYS_futex, &word, FUTEX_WAKE_PRIVATE, INT_MAX, nullptr, nullptr, 0);
}

void sleep_while_shared(std::atomic<std::uint32_t>& word, std::uint32_t value, std::int64_t longest_ns) noexcept {
  const timespec longest{longest_ns / 1'000'000'000, longest_ns % 1'000'000'000};
  const Sleeping here;
  syscall(SYS_futex, &word, FUTEX_WAIT, value, &longest, nullptr, 0);
}

void sleep_while_shared(std::atomic<std::uint32_t>& word, std::uint32_t value) noexcept {
  const Sleeping here;
  syscall(SYS_futex, &word, FUTEX_WAIT, value, nullptr, nullptr, 0);
}

void wake_all_shared(std::atomic<std::uint32_t>& word) noexcept {
  syscall(SYS_futex, &word, FUTEX_WAKE, INT_MAX, nullptr, nullptr, 0);
}

void give_way() noexcept {
  sched_yield();
}

}  // namespace antcrew::internal
