// When a loop is to end early: because a worker threw, or because the user's stop token was asked to stop.
#pragma once

#include <atomic>
#include <cstddef>
#include <stop_token>

#include "antcrew/base/error.hpp"

namespace antcrew::internal {

inline constinit const std::atomic<bool> never_raised{false};

// A loop that nothing can cut short; the compiler drops the looks at it.
struct Never {
  constexpr bool operator()() const noexcept { return false; }
};

struct Raised {
  const std::atomic<bool>& flag;
  bool operator()() const noexcept { return flag.load(std::memory_order_relaxed); }
};

struct EitherRaised {
  const std::atomic<bool>& failed;
  const std::atomic<bool>& stopped;
  bool operator()() const noexcept {
    return failed.load(std::memory_order_relaxed) || stopped.load(std::memory_order_relaxed);
  }
};

// A stop token as a flag, for the length of one call: cheaper to look at than the token.
class StopFlag {
 public:
  explicit StopFlag(const std::stop_token& token) : callback_(token, Raise{flag_}) {}
  const std::atomic<bool>& flag() const noexcept { return flag_; }

 private:
  struct Raise {
    std::atomic<bool>& flag;
    void operator()() const noexcept { flag.store(true, std::memory_order_relaxed); }
  };
  std::atomic<bool> flag_{false};
  std::stop_callback<Raise> callback_;
};

// Half a result is none. Asked to stop after the last piece is the same as before it: nobody could tell.
inline void refuse_half(const std::stop_token& stop, const char* loop) {
  if (!stop.stop_requested()) return;
  could_not_run("crew.stopped", loop, "the stop token ended it before every result was made",
                "catch this error where the stop was asked for");
}

// Of a fold, whatever the number of workers: enough to level unequal ranges on 64 of them, few enough that handing them
// out costs microseconds.
inline constexpr std::size_t fold_pieces = 512;

}  // namespace antcrew::internal
