// A wait as a compiler that optimises writes it, whatever this one does: read, compare, jump back.
#pragma once

#include <atomic>

namespace test {

inline void wait_in_a_tight_loop(const std::atomic<int>& done) {
#if defined(__x86_64__)
  asm volatile("1: movl (%0), %%eax\n testl %%eax, %%eax\n je 1b" : : "r"(&done) : "eax", "cc", "memory");
#else
  while (done.load(std::memory_order_relaxed) == 0) {
  }
#endif
}

}  // namespace test
