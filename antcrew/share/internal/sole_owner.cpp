#include "antcrew/share/internal/sole_owner.hpp"

#include <linux/membarrier.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

#include "antcrew/machine/parking.hpp"
#include "antcrew/machine/random_delays.hpp"

namespace antcrew::internal {
namespace {

bool ask(int command) noexcept {
  return ::syscall(SYS_membarrier, command, 0, 0) == 0;
}

// Where the kernel refuses the barrier, nobody is an owner in this process, from then on: all take the lock.
constinit std::atomic<bool> granted{false};

// At the start, while there is one thread: later the kernel would have to wait for all of them.
[[gnu::constructor]] void enlist() noexcept {
  granted.store(ask(MEMBARRIER_CMD_REGISTER_PRIVATE_EXPEDITED), std::memory_order_relaxed);
}

// Every other thread of this process passes a full barrier before this returns. A kernel that granted it once may
// refuse it later, when the process has gone into a sandbox with an owner inside: then this waits for far longer than a
// store takes from a processor to the others, or than a thread runs without being interrupted.
void barrier_everywhere() noexcept {
  if (ask(MEMBARRIER_CMD_PRIVATE_EXPEDITED)) return;
  if (ask(MEMBARRIER_CMD_REGISTER_PRIVATE_EXPEDITED) && ask(MEMBARRIER_CMD_PRIVATE_EXPEDITED)) return;
  granted.store(false, std::memory_order_relaxed);
  const timespec long_enough{0, 50'000'000};
  ::nanosleep(&long_enough, nullptr);
}

}  // namespace

// Whether the caller is the owner now. Without the kernel's barrier nobody is.
bool SoleOwner::claim() noexcept {
  std::uintptr_t none = nobody;
  if (!granted.load(std::memory_order_relaxed)) {
    owner_.compare_exchange_strong(none, shared, std::memory_order_acq_rel);
  } else if (owner_.compare_exchange_strong(none, this_thread(), std::memory_order_acq_rel)) {
    return true;
  }
  share();
  return false;
}

// Ends with owner_ == shared. Several may come at once: each waits for the owner to have left.
void SoleOwner::share() noexcept {
  std::uintptr_t seen = owner_.load(std::memory_order_acquire);
  while (seen != shared && seen != handing_over) {
    if (owner_.compare_exchange_weak(seen, handing_over, std::memory_order_seq_cst)) break;
  }
  if (seen == shared) return;
  at_border();
  barrier_everywhere();
  for (int look = 0; inside_.load(std::memory_order_seq_cst); ++look) {
    relax();
    if (look % 64 == 63) give_way();
  }
  owner_.store(shared, std::memory_order_release);
}

}  // namespace antcrew::internal
