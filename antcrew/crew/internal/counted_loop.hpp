// A loop that counts what it does: one that may be stopped, has a deadline, is watched, or is for some workers only.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>

#include "antcrew/base/enough.hpp"
#include "antcrew/base/range.hpp"
#include "antcrew/crew/internal/piece_body.hpp"
#include "antcrew/crew/loop_progress.hpp"
#include "antcrew/machine/cache_line.hpp"

namespace antcrew::internal {

// What a loop's options ask beside its pieces.
struct LoopLimits {
  const AnyStopToken& stop;
  double deadline_s;       // from the call on; 0 = none
  int at_most;             // workers; 0 = all
  LoopProgress* progress;  // null: nobody looks
};

class CountedLoop {
 public:
  static constexpr std::size_t unknown = 0;

  // Throws Error (crew.options) for limits that cannot be. loop: as in "each".
  CountedLoop(std::size_t n, int workers, const LoopLimits& limits, const char* loop);
  CountedLoop(const CountedLoop&) = delete;
  CountedLoop& operator=(const CountedLoop&) = delete;

  // Over 0 … n-1.
  PieceBody body(const PieceBody& inner) noexcept;
  // For a loop over 0 … strands()-1: each strand does pieces of so many items until there are none, 0 = an even share.
  bool for_some() const noexcept { return strands_ < workers_; }
  std::size_t strands() const noexcept { return strands_; }
  PieceBody strand_body(const PieceBody& inner, std::size_t items) noexcept;

  const AnyStopToken& stop() const noexcept { return stop_; }
  void add(std::size_t items) noexcept;
  // Returns how many items were done. Throws Error (crew.loop_deadline) when the time did not do for all.
  std::size_t finish();

 private:
  struct Ends {
    const CountedLoop* loop;
    bool stop_requested() const noexcept { return loop->ends(); }
    bool stop_possible() const noexcept { return true; }
  };
  bool ends() const noexcept;
  static void count_piece(void* self, Range range, const Enough& enough);
  static void strand(void* self, Range strands, const Enough& enough);
  void run_counted(Range range, const Enough& enough);

  LoopProgress own_;
  LoopProgress& progress_;
  std::size_t n_;
  std::size_t workers_;
  std::size_t strands_;
  const AnyStopToken& asked_;
  double deadline_s_;
  std::int64_t end_ns_ = 0;
  mutable std::atomic<bool> late_{false};
  AnyStopToken stop_;
  PieceBody inner_;
  std::size_t piece_ = 0;
  const char* loop_;
  alignas(line_bytes) std::atomic<std::size_t> next_{0};
};

}  // namespace antcrew::internal
