// Begun work whose handle was dropped: it is waited for by the call that dropped it, or by TaskCrew::settle().
#pragma once

#include <atomic>
#include <cstdint>
#include <exception>

#include "antcrew/machine/lock.hpp"

namespace antcrew::internal {

// Of one call, or of nobody's.
struct Dropped {
  std::atomic<std::int64_t> open{0};
  void keep_error(std::exception_ptr thrown) noexcept;
  std::exception_ptr take_error() noexcept;
  bool has_error() const noexcept { return has_error_.load(std::memory_order_acquire); }

 private:
  std::atomic<bool> has_error_{false};
  Lock lock_;
  std::exception_ptr error_;
};

}  // namespace antcrew::internal
