// How crews write into lanes: for the length of a worker's part, of a call from outside, of what a worker is at, and
// piece by piece.
#pragma once

#include <cstdint>

#include "antcrew/base/smaller.hpp"
#include "antcrew/log/lane_book.hpp"
#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {

// For the length of a worker's part in a region, or of its life among tasks. `number`: its lane, if it is free.
class InLane {
 public:
  InLane(LaneBook* book, int number, const Frame& frame) noexcept {
    if (book == nullptr || current_lane != nullptr || number >= book->lanes()) return;
    Lane& lane = book->lane(number);
    if (lane.take()) {
      lane_ = current_lane = &lane;
      lane.push(frame);
    } else {
      book->call_outside();
    }
  }
  ~InLane() {
    if (lane_ == nullptr) return;
    lane_->pop();
    current_lane = nullptr;
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
  explicit InFrame(const Frame& frame, Lane* lane = current_lane) noexcept : lane_(lane) {
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

}  // namespace antcrew::internal
