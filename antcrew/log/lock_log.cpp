#include "antcrew/log/lock_log.hpp"

#include <algorithm>

#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {

void LockLog::Holding::begin(LockLog& log, const void* lock, const char* name) noexcept {
  LaneBook* book = open_lanes.load(std::memory_order_relaxed);
  if (book == nullptr) return;
  LaneBook::LockEntry* entry = log.entry_;
  const bool known = entry != nullptr && book->owns(entry) && entry->address.load(std::memory_order_relaxed) == lock;
  if (!known) entry = log.entry_ = book->entry_of(lock, name);
  if (entry == nullptr) return;
  const std::uint64_t number = entry->holds++;
  if (number >= 64 && number % 16 != 0 && entry->last_ns < 1000) return;
  entry_ = entry;
  start_cpu_ns_ = thread_cpu_ns();
  start_ns_ = now_ns();
}

void LockLog::Holding::end() noexcept {
  const std::int64_t ns = now_ns() - start_ns_;
  ++entry_->timed_holds;
  entry_->timed_ns += ns;
  entry_->timed_cpu_ns += std::min(ns, thread_cpu_ns() - start_cpu_ns_);
  entry_->last_ns = ns;
}

}  // namespace antcrew::internal
