#include "antcrew/crew/internal/processes/after_fork.hpp"

#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "antcrew/crew/internal/processes/memory_file.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/usage.hpp"

namespace antcrew::internal {
namespace {

// Writing to pages that a fork has made shared, measured on some of this process's own.
double measure_fault_cost_s() {
  constexpr std::size_t pages = 256;
  const std::size_t bytes = pages * page_bytes;
  void* memory = ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  if (memory == MAP_FAILED) return 0;
  ::madvise(memory, bytes, MADV_NOHUGEPAGE);
  auto* first = static_cast<volatile char*>(memory);
  const auto touched_ns = [&] {
    const std::int64_t start = now_ns();
    for (std::size_t k = 0; k < pages; ++k) first[k * page_bytes] = 1;
    return now_ns() - start;
  };
  touched_ns();
  const std::int64_t warm = touched_ns();
  const pid_t child = ::fork();
  if (child == 0) ::_exit(0);
  int status = 0;
  while (child > 0 && ::waitpid(child, &status, 0) < 0 && errno == EINTR) {
  }
  const std::int64_t shared = child > 0 ? touched_ns() : warm;
  ::munmap(memory, bytes);
  return static_cast<double>(std::max<std::int64_t>(shared - warm, 0)) * 1e-9 / static_cast<double>(pages);
}

}  // namespace

double fault_cost_s() {
  static const double cost_s = measure_fault_cost_s();
  return cost_s;
}

// Looking costs more than a small parent can lose.
void AfterFork::mark() noexcept {
  constexpr std::uint64_t small_parent_bytes = 4 << 20;
  if (private_bytes_now() < small_parent_bytes) return;
  own_mark_ = minor_faults();
  taken_back_mark_ = pages_taken_back();
}

// Both counts hold others, too: this process's its fresh memory, the machine's other processes.
std::int64_t AfterFork::since_mark() const noexcept {
  if (own_mark_ < 0) return 0;
  const std::int64_t own = minor_faults() - own_mark_;
  return std::max<std::int64_t>(taken_back_mark_ < 0 ? own : std::min(own, pages_taken_back() - taken_back_mark_), 0);
}

void AfterFork::settle() noexcept {
  settled_ += since_mark();
  own_mark_ = -1;
}

void AfterFork::log() noexcept {
  Journal* journal = open_journal.load(std::memory_order_relaxed);
  if (journal == nullptr) return;
  settle();
  const auto cost_ns = static_cast<std::int64_t>(static_cast<double>(settled_ - logged_) * fault_cost_s() * 1e9);
  logged_ = settled_;
  if (cost_ns <= 0) return;
  const std::int64_t now = now_ns();
  journal->log(touching_again, now - cost_ns, now);
}

}  // namespace antcrew::internal
