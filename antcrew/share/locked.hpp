// A value that workers use one at a time.
//
//   Locked<Chart> chart;
//   chart.with([&](Chart& c) { c.add(sounding); });
//   chart.waited().seconds;      // what workers lost waiting for each other
//
// Any thread may call with(), also around work of a crew that it waits for; calls of the same Locked inside each other
// never end. In a study, time spent waiting is
// logged as a phase under the lock's name; taking a free lock is neither measured nor slowed down. For plain sums a
// Tally needs no waiting at all.
#pragma once

#include <atomic>
#include <cstdint>
#include <mutex>
#include <utility>

#include "antcrew/log/journal.hpp"
#include "antcrew/log/lanes.hpp"
#include "antcrew/log/lock_log.hpp"
#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/lock.hpp"

namespace antcrew {

// How often a lock was not free, and for how long all workers together waited for it.
struct LockWaits {
  std::uint64_t count = 0;
  double seconds = 0;
};

template <class T>
class Locked {
 public:
  // name: a string literal, the phase under which waiting is logged.
  explicit Locked(T value = T(), const char* name = "waiting for a lock") : value_(std::move(value)), name_(name) {}
  Locked(const Locked&) = delete;
  Locked& operator=(const Locked&) = delete;

  // fn(T&), alone. Returns what fn returns, which should not refer to the value.
  template <class Fn>
  auto with(Fn&& fn) {
    if (!lock_.try_lock()) wait();
    const std::lock_guard<internal::Lock> held(lock_, std::adopt_lock);
    const internal::LockLog::Holding holding(log_, &lock_, name_);
    return fn(value_);
  }

  LockWaits waited() const noexcept {
    return {waits_.load(std::memory_order_relaxed),
            static_cast<double>(waited_ns_.load(std::memory_order_relaxed)) * 1e-9};
  }

 private:
  [[gnu::noinline]] void wait() noexcept {
    const internal::InFrame waiting({internal::Doing::lock, internal::Shortage::none,
                                     internal::current_lane == nullptr ? 0 : internal::current_lane->at().region,
                                     &lock_, nullptr});
    const std::int64_t start = now_ns();
    lock_.lock();
    const std::int64_t end = now_ns();
    waits_.fetch_add(1, std::memory_order_relaxed);
    waited_ns_.fetch_add(end - start, std::memory_order_relaxed);
    if (internal::Journal* journal = internal::open_journal.load(std::memory_order_relaxed)) {
      journal->log(name_, start, end);
    }
  }

  alignas(internal::line_bytes) internal::Lock lock_;
  internal::LockLog log_;
  T value_;
  const char* name_;
  alignas(internal::line_bytes) std::atomic<std::uint64_t> waits_{0};
  std::atomic<std::int64_t> waited_ns_{0};
};

}  // namespace antcrew
