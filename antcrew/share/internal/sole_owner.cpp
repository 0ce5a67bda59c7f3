#include "antcrew/share/internal/sole_owner.hpp"

#include <linux/membarrier.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <cstdlib>

#include "antcrew/machine/jostle.hpp"
#include "antcrew/machine/parking.hpp"

namespace antcrew::internal {
namespace {

bool ask(int command) noexcept {
  return ::syscall(SYS_membarrier, command, 0, 0) == 0;
}

bool enlisted = false;

// At the start, while there is one thread: later the kernel would have to wait for all of them.
[[gnu::constructor]] void enlist() noexcept {
  enlisted = ask(MEMBARRIER_CMD_REGISTER_PRIVATE_EXPEDITED);
}

// Every other thread of this process passes a full barrier before this returns.
void barrier_everywhere() noexcept {
  if (ask(MEMBARRIER_CMD_PRIVATE_EXPEDITED)) return;
  if (!ask(MEMBARRIER_CMD_REGISTER_PRIVATE_EXPEDITED) || !ask(MEMBARRIER_CMD_PRIVATE_EXPEDITED)) std::abort();
}

}  // namespace

// Whether the caller is the owner now. Without the kernel's barrier nobody is.
bool SoleOwner::claim() noexcept {
  std::uintptr_t none = nobody;
  if (enlisted && owner_.compare_exchange_strong(none, this_thread(), std::memory_order_acq_rel)) return true;
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
