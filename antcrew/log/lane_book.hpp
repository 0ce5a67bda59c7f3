// The lanes of all workers of a metered call, and what belongs to none: regions, locks, stages. Memory that forked
// workers share.
//
// Regions, locks and stages are taken by number (relaxed: a number has one taker) and read after the same hand-over as
// lanes. Without an open book a crew's call reads one word.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>

#include "antcrew/log/lane.hpp"
#include "antcrew/log/lane_log.hpp"
#include "antcrew/log/place.hpp"

namespace antcrew::internal {

class LaneBook {
 public:
  // Lanes for so many workers, and for more of them where a crew turns out to have more: up to `most`. Throws Error
  // (log.memory).
  // A book that adds up (keeps = false) has totals of lanes and calls instead of a log, and room for any number of
  // them.
  static LaneBook* create(int workers, int most = 0, bool keeps = true);
  static void destroy(LaneBook* book) noexcept;

  // By the thread that makes the call, before and after it: it is in lane 0.
  void open() noexcept;
  void close() noexcept;
  // Once closed: waits for workers that are leaving, some milliseconds at the most.
  LaneLog log();

  int lanes() const noexcept { return lane_count_; }
  Lane& lane(int k) noexcept { return lanes_[k]; }
  bool adds_up() const noexcept { return !keeps_; }
  // Of one that adds up: calls by the thread that opened it, since it was created. Also while it is open.
  std::int64_t calls() const noexcept { return calls_.get(); }
  std::int64_t calls_ns() const noexcept { return calls_ns_.get(); }
  // Of the parent of worker processes, while it is in no lane.
  Lane& parent() noexcept { return lanes_[lane_count_]; }

  // The number of a region that begins now. Any worker.
  std::uint32_t begin_region(const LaneRegion& region) noexcept;
  void region_grows(std::uint32_t number) noexcept;
  // It is a pipeline's.
  void region_has_stages(std::uint32_t number) noexcept;
  // Begins one if the calling thread may: it is in lane 0, and in no body. 0 otherwise; what other threads call is
  // outside, and counted.
  std::uint32_t begin_outer_region(LaneRegion region) noexcept;
  void end_outer_region(std::uint32_t number) noexcept;
  // The one that the thread in lane 0 has begun from outside, and not ended. Acquire, against the release of its begin:
  // who works for it may write to its entry.
  std::uint32_t region_now() const noexcept { return region_now_.load(std::memory_order_acquire); }
  void add_parent_cpu(std::int64_t ns) noexcept { parent_cpu_ns_ += ns; }
  // The critical path of one of the calls in it, by the thread that made it.
  void add_path(std::int64_t ns) noexcept { path_ns_.fetch_add(ns, std::memory_order_relaxed); }
  void call_outside() noexcept { calls_outside_.fetch_add(1, std::memory_order_relaxed); }

  // A lock's entry; null when there are too many. Of a lock of the C library, which says neither its name nor how long
  // it is held, the address is that of who waits for it.
  static constexpr int most_callers = 6;
  struct LockEntry {
    std::atomic<const void*> address;
    const char* name;
    std::uint64_t holds;  // these by who holds the lock
    std::uint64_t timed_holds;
    std::int64_t timed_ns;
    std::int64_t timed_cpu_ns;
    std::int64_t last_ns;
    std::atomic<bool> noted;  // whether the callers are: by who came first
    const void* callers[most_callers];
    std::atomic<std::uint64_t> waits;
    std::atomic<std::int64_t> waited_ns;
  };
  LockEntry* entry_of(const void* lock, const char* name) noexcept;
  bool owns(const LockEntry* entry) const noexcept { return entry >= locks_ && entry < locks_ + most_locks; }

  struct StageEntry {
    char name[48];
    bool alone;
    std::int64_t busy_ns;
    std::uint64_t items;
  };
  // Of a pipeline's run, by the thread that began it.
  void add_stage(const char* name, bool alone, std::int64_t busy_ns, std::uint64_t items) noexcept;
  // A name that stays as long as the book: the same text gives the same pointer.
  const char* keep_name(const char* text) noexcept;

 private:
  // Whether nobody is in a lane, after some patience. What a thread that has died held is taken back.
  bool left_by_all() noexcept;

  static constexpr std::uint32_t most_regions = 1u << 16;
  static constexpr std::uint32_t most_entries = 1u << 15;
  static constexpr int most_locks = 64;
  static constexpr int most_stages = 32;
  static constexpr int most_names = 64;

  std::size_t bytes_;
  int lane_count_;
  int workers_;
  bool keeps_;
  Noted calls_;
  Noted calls_ns_;
  bool unused_;  // somebody was still in a lane when it was to be opened
  Lane* lanes_;  // one more than the workers
  Stretch* entries_;
  std::int64_t begin_ns_;
  std::int64_t end_ns_;
  std::int64_t cpu_at_begin_ns_;
  std::int64_t delay_at_begin_ns_;
  std::int64_t parent_cpu_ns_;
  std::atomic<std::int64_t> path_ns_;
  std::atomic<std::uint32_t> region_now_;
  std::atomic<std::uint32_t> regions_used_;
  std::atomic<std::uint64_t> calls_outside_;
  LockEntry locks_[most_locks];
  StageEntry stages_[most_stages];
  std::atomic<std::uint32_t> stages_used_;
  std::atomic<std::uint32_t> names_used_;
  char names_[most_names][48];
  LaneRegion regions_[most_regions];
};

// The last one made; null once it is gone. Processes forked since then have it mapped.
inline constinit std::atomic<LaneBook*> newest_lanes{nullptr};

}  // namespace antcrew::internal
