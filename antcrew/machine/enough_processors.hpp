// Whether each of so many threads has a processor, so that who waits may look for what it waits for instead of
// sleeping. How many there are may change at any time; it is asked again now and then. Any thread.
#pragma once

#include <atomic>
#include <cstdint>

#include "antcrew/machine/layer.hpp"

namespace antcrew::internal {

class EnoughProcessors {
 public:
  explicit EnoughProcessors(int threads);
  bool known() const noexcept { return known_.load(std::memory_order_relaxed); }
  // Before going to sleep: asks when nobody has asked for 10 ms. A system call, which would delay each sleep.
  void look_again() noexcept;

 private:
  const int threads_;
  std::atomic<bool> known_;
  std::atomic<std::int64_t> next_look_ns_;
};

}  // namespace antcrew::internal
