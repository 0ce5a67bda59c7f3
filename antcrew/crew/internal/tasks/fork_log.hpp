// Which forks of a metered call are written down, and how many there were.
//
// Writing a fork down reads the clock some five times, which is more than a fork costs. Levels (of forks inside forks)
// at which all lately took next to nothing are only counted: what lies below such a fork then counts as done in turn
// on the critical path, some microseconds of it. Where a fork of the last level that is written down takes long after
// all, the next one is, too.
#pragma once

#include <cstdint>

#include "antcrew/log/lane.hpp"
#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {

// Of one worker.
class ForkLog {
 public:
  void count() noexcept {
    if (current_lane != nullptr) current_lane->fork_begun();
  }
  bool tells() const noexcept { return level_ < told_to_; }
  int level() const noexcept { return level_; }

  // While a fork of that level, taken from elsewhere, is run.
  class At {
   public:
    At(ForkLog& log, int level) noexcept : log_(log), before_(log.level_) { log.level_ = level; }
    ~At() { log_.level_ = before_; }
    At(const At&) = delete;
    At& operator=(const At&) = delete;

   private:
    ForkLog& log_;
    int before_;
  };

  // While one that is written down is under way.
  class Told {
   public:
    explicit Told(ForkLog& log) noexcept : log_(log), began_ns_(now_ns()) { ++log.level_; }
    ~Told() {
      --log_.level_;
      log_.took(now_ns() - began_ns_);
    }
    Told(const Told&) = delete;
    Told& operator=(const Told&) = delete;

   private:
    ForkLog& log_;
    std::int64_t began_ns_;
  };

 private:
  static constexpr int most_levels = 64;
  static constexpr int all_short = 32;
  static constexpr std::int64_t short_ns = 5'000;
  static constexpr std::int64_t long_ns = 20'000;

  void took(std::int64_t ns) noexcept {
    if (current_lane != nullptr) current_lane->fork_told();
    if (level_ >= most_levels) return;
    std::uint8_t& short_ones = short_in_a_row_[level_];
    if (ns >= short_ns) short_ones = 0;
    if (ns < short_ns && short_ones < all_short) ++short_ones;
    if (short_ones == all_short && level_ > 0 && level_ < told_to_) told_to_ = level_;
    if (ns >= long_ns && level_ + 1 == told_to_) {
      ++told_to_;
      if (told_to_ <= most_levels) short_in_a_row_[told_to_ - 1] = 0;
    }
  }

  int level_ = 0;
  int told_to_ = most_levels;  // forks of this level and deeper are counted only
  std::uint8_t short_in_a_row_[most_levels] = {};
};

}  // namespace antcrew::internal
