// The short messages between ranks: orders and replies, as their bytes lie.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <cstring>

#include "antcrew/base/range.hpp"
#include "antcrew/ranks/internal/code_place.hpp"
#include "antcrew/ranks/internal/rank_team.hpp"

namespace antcrew::internal {

// A short message as it is put together. What is put in fits.
template <std::size_t room>
class Letter {
 public:
  void put(const void* from, std::size_t bytes) {
    if (bytes > 0) std::memcpy(text_.data() + size_, from, bytes);
    size_ += bytes;
  }
  const char* data() const noexcept { return text_.data(); }
  std::size_t size() const noexcept { return size_; }

 private:
  std::array<char, room> text_;
  std::size_t size_ = 0;
};

// In front of the numbers that are to be forgotten and of the small arguments.
struct RankTeam::OrderHead {
  std::uint64_t number = 0;
  CodePlace code;  // none: leave
  std::uint64_t n = 0;
  std::uint64_t items = 1;
  std::uint32_t kind = 0;  // of the split
  std::uint8_t replies = 1;
  std::uint8_t leave = 0;
  std::uint8_t apart = 0;    // the small arguments come as a block
  std::uint32_t region = 0;  // in the log of the call; 0 = none is kept
  std::uint64_t gone = 0;
  std::uint64_t small_bytes = 0;
  std::uint64_t large_bytes = 0;
};

struct RankTeam::ReplyHead {
  std::uint64_t number = 0;
  Range one;  // the only range, or the one where it threw
  std::uint64_t ranges = 0;
  std::uint64_t small_bytes = 0;
  std::uint64_t large_bytes = 0;
  std::int64_t moving_ns = 0;  // that this rank took to read blocks, since its last reply
  std::uint8_t threw = 0;
  std::uint8_t apart = 0;  // all that follows the head comes by itself
};

// A body runs in this thread: what it may know of its rank.
class AsRank {
 public:
  explicit AsRank(RankTeam& team)
      : now_{team.rank(), team.ranks(), team.hello(team.rank()).threads, team.for_bodies()}, before_(rank_now) {
    rank_now = &now_;
  }
  ~AsRank() { rank_now = before_; }
  AsRank(const AsRank&) = delete;
  AsRank& operator=(const AsRank&) = delete;

 private:
  RankNow now_;
  const RankNow* before_;
};

}  // namespace antcrew::internal
