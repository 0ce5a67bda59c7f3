// Where phases and counters of a trial are kept: memory that the workers share, forked ones too.
//
// Invariant: a slot is written by the one worker that took its number, and read only after the trial, when no worker
// of it runs any more. So taking a number needs no order; reading is ordered by whatever joined the workers.
#pragma once

#include <atomic>
#include <cstdint>
#include <map>
#include <string>

#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/forks.hpp"

namespace antcrew::internal {

struct LoggedPhase {
  double seconds = 0;  // of all workers together
  std::int64_t count = 0;
  double wall_s = 0;  // of the union of its stretches
  int at_once = 0;    // workers that were in it at the same time, at most
};

class Journal {
 public:
  // Maps the shared memory; throws Error (log.memory) when the system has none.
  static Journal* create();
  static void destroy(Journal* journal) noexcept;

  void log(const char* name, std::int64_t start_ns, std::int64_t end_ns) noexcept {
    const std::uint32_t slot = used_.fetch_add(1, std::memory_order_relaxed);
    if (slot < capacity) entries_[slot] = {name, start_ns, end_ns, kernel_thread()};
  }
  // work: of two names that are one text the first decides.
  void count(const char* name, std::uint64_t k, bool work = true) noexcept;

  void clear() noexcept;
  std::map<std::string, LoggedPhase> phases() const;
  // Of the work.
  std::map<std::string, double> counters() const { return sums(true); }
  // Of anything else. What found no place among most_counters names is summed up as "under further names".
  std::map<std::string, double> quantities() const { return sums(false); }
  // Phases that found no slot any more.
  std::int64_t lost() const noexcept;

 private:
  static constexpr std::uint32_t capacity = 1u << 18;
  static constexpr int most_counters = 64;
  struct Entry {
    const char* name;
    std::int64_t start_ns;
    std::int64_t end_ns;
    std::uint32_t thread;
  };
  std::map<std::string, double> sums(bool work) const;
  struct Counter {
    std::atomic<const char*> name;
    std::atomic<bool> quantity;
    std::atomic<std::uint64_t> sum;
  };

  std::atomic<std::uint32_t> used_;
  std::atomic<std::uint64_t> unnamed_;  // counted after the names had run out
  alignas(line_bytes) Counter counters_[most_counters];
  alignas(line_bytes) Entry entries_[capacity];
};

// Open while a study calls a variant; null otherwise.
inline constinit std::atomic<Journal*> open_journal{nullptr};
// The last one made; null once it is gone. Processes forked since then have it mapped.
inline constinit std::atomic<Journal*> newest_journal{nullptr};

}  // namespace antcrew::internal
