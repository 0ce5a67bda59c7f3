// How far a loop has come: for a progress bar, or whoever else looks from outside.
//
//   LoopProgress progress;
//   std::jthread bar([&](std::stop_token stop) { while (!stop.stop_requested()) { show(progress.share()); … } });
//   crew.each(n, body, {.progress = &progress});
//
// Of one loop at a time; it begins anew with each. Any thread may look at any time. A loop with it counts each piece
// when that has ended, a few nanoseconds each.
#pragma once

#include <array>
#include <atomic>
#include <cstddef>

#include "antcrew/machine/cache_line.hpp"

namespace antcrew {

namespace internal {
class CountedLoop;
}

class LoopProgress {
 public:
  LoopProgress() = default;
  LoopProgress(const LoopProgress&) = delete;
  LoopProgress& operator=(const LoopProgress&) = delete;

  // Items that are done; of `fold` the ranges, of `tiles` the tiles.
  std::size_t done() const noexcept {
    std::size_t all = 0;
    for (const Count& count : done_) all += count.items.load(std::memory_order_relaxed);
    return all;
  }
  // Of the whole loop; 0 before one has begun, and where nobody knows: of forward ranges and generators.
  std::size_t items() const noexcept { return items_.load(std::memory_order_relaxed); }
  // 0 … 1; 0 where nobody knows.
  double share() const noexcept {
    const std::size_t all = items();
    return all == 0 ? 0.0 : static_cast<double>(done()) / static_cast<double>(all);
  }

 private:
  friend class internal::CountedLoop;
  struct alignas(internal::line_bytes) Count {
    std::atomic<std::size_t> items{0};
  };
  static constexpr std::size_t counts = 16;  // workers share them from there on

  void begin(std::size_t items) noexcept {
    for (Count& count : done_) count.items.store(0, std::memory_order_relaxed);
    items_.store(items, std::memory_order_relaxed);
  }
  void add(int worker, std::size_t items) noexcept {
    done_[static_cast<std::size_t>(worker) % counts].items.fetch_add(items, std::memory_order_relaxed);
  }

  std::array<Count, counts> done_;
  std::atomic<std::size_t> items_{0};
};

}  // namespace antcrew
