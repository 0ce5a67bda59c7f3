// What one worker writes down while a call is metered.
//
// Invariant: a lane is written by the one thread that holds it (`holder`), and read by whoever opened the book, after
// the call, once nobody holds the lane. Taking and leaving it are acquire and release on `holder`: what one thread
// wrote, the next one and the reader see.
//
// Cost: a border between two stretches reads the clock and writes a slot (some 50 ns); 20 µs after the last time it
// reads the thread's CPU clock, too, and 1 ms after the last time the kernel's count of run delay. Short pieces are
// written together.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>

#include "antcrew/base/smaller.hpp"
#include "antcrew/log/lane_log.hpp"
#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {

// A number with one writer at a time and any readers: relaxed, which costs that writer no more than a plain one.
class Noted {
 public:
  void add(std::int64_t k) noexcept {
    value_.store(value_.load(std::memory_order_relaxed) + k, std::memory_order_relaxed);
  }
  std::int64_t get() const noexcept { return value_.load(std::memory_order_relaxed); }

 private:
  std::atomic<std::int64_t> value_;  // zero in the memory of a book
};

// What a lane adds up in a book that keeps no stretches, for as long as it lives.
struct LaneTotals {
  Noted busy_ns;  // in the user's work; waiting for a lock there is part of it
  Noted cpu_ns;   // of that, on a processor: read some 20 µs apart
  Noted pieces;
  Noted stolen;  // taken from another worker
};

struct Frame {
  Doing doing = Doing::away;
  Shortage shortage = Shortage::none;
  std::uint32_t region = 0;
  const void* about = nullptr;
  const char* phase = nullptr;
};

class alignas(line_bytes) Lane {
 public:
  // By the thread that holds it.
  bool take() noexcept;  // false when another thread has it
  void leave() noexcept;
  // From one that may have died with it: the stack of frames is what it was.
  void take_back(int depth) noexcept;
  void push(const Frame& frame) noexcept {
    border(now_ns());
    if (depth_ < most_frames) frames_[depth_] = frame;
    ++depth_;
  }
  // The same right after a border.
  void enter(const Frame& frame) noexcept {
    if (depth_ < most_frames) frames_[depth_] = frame;
    ++depth_;
  }
  void pop() noexcept {
    border(now_ns());
    --depth_;
  }
  // Of the body under way.
  void pieces_ended(std::int64_t now, std::uint64_t first, std::uint64_t items, std::uint32_t pieces) noexcept;
  void call_comes(std::int64_t at_ns) noexcept { called_ns_.store(at_ns, std::memory_order_relaxed); }
  // The next piece was taken from another worker.
  void next_is_stolen() noexcept {
    stolen_ = true;
    if (adds_up_) totals_.stolen.add(1);
  }
  // A fork in two is begun; one that has ended was written down on the critical path.
  void fork_begun() noexcept { ++forks_; }
  void fork_told() noexcept { ++forks_told_; }
  // What is under way turned out to be this: in a frame of the same depth, before its pop.
  void is_rather(const Frame& frame) noexcept {
    const char* phase = top().phase;
    top() = frame;
    top().phase = phase;
  }
  const char* enter_phase(const char* name) noexcept {
    border(now_ns());
    const char* before = top().phase;
    top().phase = name;
    return before;
  }
  void leave_phase(const char* before) noexcept {
    border(now_ns());
    top().phase = before;
  }
  const Frame& at() const noexcept { return const_cast<Lane*>(this)->top(); }
  int depth() const noexcept { return depth_; }
  void border(std::int64_t now) noexcept { write(now, {}, 0); }
  const LaneTotals& totals() const noexcept { return totals_; }

 private:
  friend class LaneBook;
  static constexpr int most_frames = 48;
  static constexpr std::int64_t between_cpu_ns = 20'000;
  static constexpr std::int64_t between_delays_ns = 1'000'000;

  struct Piece {
    std::uint64_t first = 0;
    std::uint64_t items = 0;
    std::uint32_t count = 0;
  };
  Frame& top() noexcept { return frames_[smaller_of(larger_of(depth_, 1), most_frames) - 1]; }
  void write(std::int64_t now, const Piece& piece, std::int64_t called_ns) noexcept;
  void add_up(std::int64_t now, const Piece& piece) noexcept;
  void read_clocks(std::int64_t now, Stretch& into, bool always) noexcept;
  void begin(std::int64_t now, const Frame& base, Stretch* entries, std::uint32_t room) noexcept;

  std::atomic<std::uint32_t> holder_;  // kernel's number of the thread; 0 = nobody
  std::uint32_t thread_;
  std::uint32_t used_;
  std::uint32_t room_;
  int depth_;  // frames in use; the first one is the base
  bool stolen_;
  bool adds_up_;             // keeps no stretches
  std::int64_t busy_since_;  // the last reading of the CPU clock, where it adds up
  Stretch* entries_;
  std::int64_t last_ns_;
  std::int64_t cpu_read_at_ns_;
  std::int64_t delay_read_at_ns_;
  std::int64_t cpu_read_ns_;
  std::int64_t switches_;  // of the thread's own will, when last asked
  std::int64_t merge_ns_;  // pieces shorter than that are added to the stretch before
  std::uint64_t cpu_readings_;
  std::uint64_t delay_readings_;
  std::uint64_t events_;
  std::uint64_t lost_;
  std::uint64_t forks_;
  std::uint64_t forks_told_;
  std::int64_t cpu_before_ns_;  // of the thread that had it last, when the call began; -1 = not known
  std::int64_t delay_before_ns_;
  std::uint32_t thread_before_;
  Frame frames_[most_frames];
  LaneTotals totals_;
  alignas(line_bytes) std::atomic<std::int64_t> called_ns_;
};

// The lane that the calling thread is in.
inline constinit thread_local Lane* current_lane = nullptr;

}  // namespace antcrew::internal
