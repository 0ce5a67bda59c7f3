// Where workers write down what they do, while a call is metered; memory that forked workers share.
//
// Invariant: a lane is written by the one thread that holds it (`holder`), and read by whoever opened the book, after
// the call, once nobody holds the lane. Taking and leaving it are acquire and release on `holder`: what one thread
// wrote, the next one and the reader see. Regions, locks and stages are taken by number (relaxed: a number has one
// taker) and read after the same hand-over.
//
// Cost: a border between two stretches reads the clock and writes a slot (some 50 ns); 20 µs after the last time it
// reads the thread's CPU clock, too, and 1 ms after the last time the kernel's count of run delay. Short pieces are
// written together. Without an open book a crew's call reads one word.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>

#include "antcrew/base/smaller.hpp"
#include "antcrew/log/lane_log.hpp"
#include "antcrew/log/place.hpp"
#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/forks.hpp"

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
  std::int64_t cpu_before_ns_;  // of the thread that had it last, when the call began; -1 = not known
  std::int64_t delay_before_ns_;
  std::uint32_t thread_before_;
  Frame frames_[most_frames];
  LaneTotals totals_;
  alignas(line_bytes) std::atomic<std::int64_t> called_ns_;
};

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

  // A lock's entry; null when there are too many.
  struct LockEntry {
    std::atomic<const void*> address;
    const char* name;
    std::uint64_t holds;  // these by who holds the lock
    std::uint64_t timed_holds;
    std::int64_t timed_ns;
    std::int64_t last_ns;
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
// The lane that the calling thread is in.
inline constinit thread_local Lane* lane_here = nullptr;

// For the length of a worker's part in a region, or of its life among tasks. `number`: its lane, if it is free.
class InLane {
 public:
  InLane(LaneBook* book, int number, const Frame& frame) noexcept {
    if (book == nullptr || lane_here != nullptr || number >= book->lanes()) return;
    Lane& lane = book->lane(number);
    if (lane.take()) {
      lane_ = lane_here = &lane;
      lane.push(frame);
    } else {
      book->call_outside();
    }
  }
  ~InLane() {
    if (lane_ == nullptr) return;
    lane_->pop();
    lane_here = nullptr;
    lane_->leave();
  }
  InLane(const InLane&) = delete;
  InLane& operator=(const InLane&) = delete;
  Lane* lane() const noexcept { return lane_; }

 private:
  Lane* lane_ = nullptr;
};

// A call of a crew from outside, by its caller. Does nothing while no book is open, and for calls inside bodies.
class OuterRegion {
 public:
  OuterRegion(std::uint64_t n, Sharing sharing, int workers, const char* crew, bool forks = false) noexcept {
    LaneBook* book = open_lanes.load(std::memory_order_relaxed);
    if (book != nullptr) [[unlikely]]
      begin(*book, n, sharing, workers, crew, forks);
  }
  ~OuterRegion() {
    if (book_ != nullptr) [[unlikely]]
      end();
  }
  OuterRegion(const OuterRegion&) = delete;
  OuterRegion& operator=(const OuterRegion&) = delete;

  LaneBook* book() const noexcept { return book_; }
  std::uint32_t number() const noexcept { return number_; }

 private:
  void begin(LaneBook& book, std::uint64_t n, Sharing sharing, int workers, const char* crew, bool forks) noexcept;
  void end() noexcept;

  LaneBook* book_ = nullptr;
  std::uint32_t number_ = 0;
};

// The caller's lane is worker 0's while worker processes are at a region; the parent writes aside.
class LaneHandOver {
 public:
  explicit LaneHandOver(const OuterRegion& region) noexcept;
  ~LaneHandOver();
  LaneHandOver(const LaneHandOver&) = delete;
  LaneHandOver& operator=(const LaneHandOver&) = delete;

 private:
  LaneBook* book_;
  int depth_ = 0;
  std::int64_t cpu_ns_ = 0;
};

// A frame on top of what the calling thread's lane has. Does nothing for a thread in no lane.
class InFrame {
 public:
  explicit InFrame(const Frame& frame, Lane* lane = lane_here) noexcept : lane_(lane) {
    if (lane_ != nullptr) lane_->push(frame);
  }
  ~InFrame() {
    if (lane_ != nullptr) lane_->pop();
  }
  InFrame(const InFrame&) = delete;
  InFrame& operator=(const InFrame&) = delete;

 private:
  Lane* lane_;
};

// What a lock remembers of the book under way. Written by who holds the lock.
class LockLog {
 public:
  // How long a hold takes is measured of each while they are few or long, else of one among sixteen.
  class Holding {
   public:
    Holding(LockLog& log, const void* lock, const char* name) noexcept {
      if (lane_here != nullptr) [[unlikely]]
        begin(log, lock, name);
    }
    ~Holding() {
      if (entry_ != nullptr) [[unlikely]]
        end();
    }
    Holding(const Holding&) = delete;
    Holding& operator=(const Holding&) = delete;

   private:
    void begin(LockLog& log, const void* lock, const char* name) noexcept;
    void end() noexcept;
    LaneBook::LockEntry* entry_ = nullptr;
    std::int64_t start_ns_ = 0;
  };

 private:
  LaneBook::LockEntry* entry_ = nullptr;
};

// Ends of pieces, those of short ones together: the clock is read once for some 4 µs of them.
class PieceLog {
 public:
  explicit PieceLog(Lane* lane) noexcept : lane_(lane), began_ns_(lane == nullptr ? 0 : now_ns()) {}
  ~PieceLog() { end(); }
  PieceLog(const PieceLog&) = delete;
  PieceLog& operator=(const PieceLog&) = delete;

  void begin(Lane* lane) noexcept {
    lane_ = lane;
    began_ns_ = now_ns();
  }
  void end() noexcept {
    if (lane_ != nullptr && pieces_ > 0) write(now_ns());
    lane_ = nullptr;
  }
  bool begun() const noexcept { return lane_ != nullptr; }
  // What went before was written down otherwise.
  void begin_again() noexcept {
    if (lane_ != nullptr) began_ns_ = now_ns();
  }
  void ended(std::uint64_t first, std::uint64_t items) noexcept {
    if (lane_ == nullptr) [[likely]]
      return;
    if (pieces_++ == 0) first_ = first;
    items_ += items;
    if (pieces_ < stride_) return;
    const std::int64_t now = now_ns();
    const std::int64_t ns = now - began_ns_;
    if (ns < 4'000) {
      stride_ = smaller_of(stride_ * 2, 1u << 12);
    } else if (ns > 8'000 && stride_ > 1) {
      stride_ = larger_of(1u, stride_ / static_cast<std::uint32_t>(smaller_of<std::int64_t>(ns / 4'000, stride_)));
    }
    write(now);
  }

 private:
  void write(std::int64_t now) noexcept {
    lane_->pieces_ended(now, first_, items_, pieces_);
    began_ns_ = now;
    pieces_ = 0;
    items_ = 0;
  }

  Lane* lane_;
  std::int64_t began_ns_;
  std::uint64_t first_ = 0;
  std::uint64_t items_ = 0;
  std::uint32_t pieces_ = 0;
  std::uint32_t stride_ = 1;
};

// What writing down costs on this machine, measured once: some 0.2 ms.
struct LogCosts {
  double event_s = 0;
  double cpu_reading_s = 0;
  double delay_reading_s = 0;
};
const LogCosts& log_costs();
// What writing this log took.
double metering_of(const LaneLog& log);

}  // namespace antcrew::internal
