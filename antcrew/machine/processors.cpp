#include "antcrew/machine/processors.hpp"

#if defined(__x86_64__)
#include <cpuid.h>
#endif
#include <sched.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <new>

namespace antcrew::internal {
namespace {

constinit thread_local const ProcessorSet* without_pins = nullptr;

}  // namespace

// The system calls themselves: the library's types end at 1,024 processors.
bool read_processors(int thread, ProcessorSet& set) noexcept {
  ProcessorSet seen;
  if (::syscall(SYS_sched_getaffinity, thread, sizeof seen.words, seen.words.data()) <= 0) return false;
  set = seen;
  return true;
}

bool keep_on(int thread, const ProcessorSet& set) noexcept {
  return ::syscall(SYS_sched_setaffinity, thread, sizeof set.words, set.words.data()) == 0;
}

int thread_here() noexcept {
  return static_cast<int>(::syscall(SYS_gettid));
}

int processor_here() noexcept {
  return ::sched_getcpu();
}

bool in_virtual_machine() noexcept {
#if defined(__x86_64__)
  static const bool told = [] {
    unsigned a = 0, b = 0, c = 0, d = 0;
    return __get_cpuid(1, &a, &b, &c, &d) == 0 || (c >> 31 & 1) != 0;
  }();
  return told;
#else
  return true;
#endif
}

ProcessorSet own_processors() noexcept {
  if (without_pins != nullptr) return *without_pins;
  ProcessorSet set;
  read_processors(0, set);
  return set;
}

void remember_own_processors(const ProcessorSet* set) noexcept {
  without_pins = set;
}

void PinnedHere::pin(int processor) noexcept {
  ::new (static_cast<void*>(&before_)) ProcessorSet;
  if (!read_processors(0, before_)) return;
  ProcessorSet one;
  one.add(processor);
  if (!keep_on(0, one)) return;
  pinned_ = true;
  processor_ = processor;
  outermost_ = without_pins == nullptr;
  if (outermost_) without_pins = &before_;
}

void PinnedHere::let_go() noexcept {
  if (outermost_) without_pins = nullptr;
  ProcessorSet one;
  one.add(processor_);
  ProcessorSet now;
  if (read_processors(0, now) && now == one) keep_on(0, before_);
}

}  // namespace antcrew::internal
