// What ranks do while a call is metered: each writes a lane of its own, by its own clocks, and rank 0 brings them
// together.
//
// Invariant: a rank other than 0 writes its lane in the thread that serves, between the order that opens the log and
// the one that closes it; orders are carried out one after the other, so nobody else is in it then. Rank 0's lane is in
// the book of whoever meters the call.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "antcrew/base/range.hpp"
#include "antcrew/log/lane_log.hpp"
#include "antcrew/log/lanes.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/ranks/internal/messages.hpp"

namespace antcrew::internal {

// What this thread is at, in its lane; nothing where there is none.
inline Frame frame_here(Doing doing, const void* about = nullptr) noexcept {
  return {doing, Shortage::none, current_lane == nullptr ? 0 : current_lane->at().region, about, nullptr};
}
class At : public InFrame {
 public:
  explicit At(Doing doing, const void* about = nullptr) noexcept : InFrame(frame_here(doing, about)) {}
};

// A piece of the user's work.
class PieceAt {
 public:
  explicit PieceAt(Range piece) noexcept : lane_(current_lane), piece_(piece) {
    if (lane_ != nullptr) [[unlikely]]
      lane_->push(frame_here(Doing::body));
  }
  ~PieceAt() {
    if (lane_ == nullptr || lane_ != current_lane) [[likely]]
      return;
    lane_->pieces_ended(now_ns(), piece_.first, piece_.size(), 1);
    lane_->pop();
  }
  PieceAt(const PieceAt&) = delete;
  PieceAt& operator=(const PieceAt&) = delete;

 private:
  Lane* lane_;
  Range piece_;
};

// Logs what is sent beside letters as data that rank 0 moves.
class SentLog {
 public:
  SentLog(std::size_t bytes, int to_ranks);

 private:
  std::optional<At> at_;
  std::optional<Phase> phase_;
};

// The same for what comes, with the time of the rank that sent it: what it took to read, and to be read.
class TakenLog {
 public:
  TakenLog(std::size_t bytes, std::int64_t moving_ns);
  ~TakenLog();
  TakenLog(const TakenLog&) = delete;
  TakenLog& operator=(const TakenLog&) = delete;

 private:
  std::size_t bytes_;
  std::int64_t moving_ns_;
  std::int64_t begun_ns_;
  std::optional<At> at_;
  std::optional<Phase> phase_;
};

// What a rank sends rank 0 of its log.
struct RankLane {
  std::int64_t begin_ns = 0;  // by its own clock, as all that follows
  std::int64_t cpu_at_begin_ns = 0;
  std::int64_t delay_at_begin_ns = -1;
  std::int64_t kernel_cpu_ns = -1;
  std::uint64_t events = 0;
  std::uint64_t cpu_readings = 0;
  std::uint64_t delay_readings = 0;
  std::uint64_t lost = 0;
  std::uint64_t calls_outside = 0;
  double cpu_s = 0;  // of its process
  double system_s = 0;
  bool unfinished = false;
};

// The log of one rank: the book that it writes its lane into, where it is not rank 0.
class RankLog {
 public:
  RankLog() = default;
  ~RankLog() { LaneBook::destroy(book_); }
  RankLog(const RankLog&) = delete;
  RankLog& operator=(const RankLog&) = delete;

  // Throws Error (log.memory).
  void open();
  void close() noexcept;
  RankLane lane(std::vector<Stretch>& stretches);

 private:
  LaneBook* book_ = nullptr;
  bool open_ = false;
  double cpu_before_s_ = 0;
  double system_before_s_ = 0;
  double cpu_s_ = 0;
  double system_s_ = 0;
};

// Puts the lane of a rank into a call's log. ahead_ns: how much its clock is ahead of rank 0's.
void add_rank(LaneLog& log, int rank, const RankLane& lane, std::vector<Stretch> stretches, std::int64_t ahead_ns);

}  // namespace antcrew::internal
