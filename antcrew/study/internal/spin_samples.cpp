#include "antcrew/study/internal/spin_samples.hpp"

#include <sys/time.h>
#include <sys/uio.h>
#include <ucontext.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <cstdint>
#include <cstring>

#include "antcrew/log/lane.hpp"
#include "antcrew/study/internal/spin_loop.hpp"

namespace antcrew::internal {
namespace {

constexpr std::size_t most = 4096;
constexpr std::size_t around = 32;  // bytes of code on either side
constexpr std::size_t near = 16;    // within these a hint to the processor belongs to the same loop

// Written by handlers, which may be in several threads at once: each takes a place of its own.
std::atomic<std::size_t> taken{0};
std::atomic<std::uintptr_t> seen[most];

extern "C" void keep_address(int, siginfo_t*, void* of) {
  const int error = errno;
  // A worker that waits for its crew is no spinning of the user's.
  const Lane* lane = current_lane;
  const bool in_work = lane == nullptr || lane->at().doing == Doing::body;
  const auto* context = static_cast<const ucontext_t*>(of);
#if defined(__x86_64__)
  const auto address = static_cast<std::uintptr_t>(context->uc_mcontext.gregs[REG_RIP]);
#elif defined(__aarch64__)
  const auto address = static_cast<std::uintptr_t>(context->uc_mcontext.pc);
#else
  const std::uintptr_t address = 0;
#endif
  const std::size_t place = taken.fetch_add(1, std::memory_order_relaxed);
  if (place < most) seen[place].store(in_work ? address : 0, std::memory_order_relaxed);
  errno = error;
}

// Read by way of the kernel, since some of it may not be there.
bool waits_at(std::uintptr_t address) {
  if (address < around) return false;
  unsigned char code[2 * around] = {};
  iovec to{code, sizeof code};
  iovec from{reinterpret_cast<void*>(address - around), sizeof code};
  if (::process_vm_readv(::getpid(), &to, 1, &from, 1, 0) != static_cast<ssize_t>(sizeof code)) return false;
  if (only_waits(code, around)) return true;
  const unsigned char* first = code + around - near;
  const unsigned char* last = code + around + near;
#if defined(__x86_64__)
  constexpr unsigned char pause[] = {0xf3, 0x90};
  return std::search(first, last, pause, pause + sizeof pause) != last;
#elif defined(__aarch64__)
  for (; first < last; first += 4) {
    std::uint32_t word = 0;
    std::memcpy(&word, first, 4);
    if (word == 0xd503203f || word == 0xd5033fdf) return true;  // yield, isb
  }
  return false;
#else
  return first == last;
#endif
}

void set_timer(long every_us) {
  const itimerval timer{{0, every_us}, {0, every_us}};
  ::setitimer(ITIMER_PROF, &timer, nullptr);
}

}  // namespace

SpinSamples::SpinSamples() {
  struct sigaction ours = {};
  ours.sa_sigaction = &keep_address;
  ours.sa_flags = SA_SIGINFO | SA_RESTART;
  sigemptyset(&ours.sa_mask);
  taken.store(0);
  if (::sigaction(SIGPROF, nullptr, &before_) != 0) return;
  // The program has a use of its own for the signal.
  if ((before_.sa_flags & SA_SIGINFO) != 0 || before_.sa_handler != SIG_DFL) return;
  on_ = ::sigaction(SIGPROF, &ours, &before_) == 0;
  if (on_) set_timer(1000);
}

// What is on its way to a thread when the timer is off is ignored.
SpinSamples::~SpinSamples() {
  if (!on_) return;
  set_timer(0);
  struct sigaction none = {};
  none.sa_handler = SIG_IGN;
  ::sigaction(SIGPROF, &none, nullptr);
  ::sigaction(SIGPROF, &before_, nullptr);
}

std::size_t SpinSamples::all() const noexcept {
  return std::min(taken.load(), most);
}

std::size_t SpinSamples::spinning() const {
  std::size_t count = 0;
  for (std::size_t k = 0; k < all(); ++k) count += waits_at(seen[k].load(std::memory_order_relaxed)) ? 1 : 0;
  return count;
}

}  // namespace antcrew::internal
