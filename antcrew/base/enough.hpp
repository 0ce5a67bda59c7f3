// When a loop is to end early: because a worker threw, or because the user's stop token was asked to stop.
#pragma once

#include <atomic>
#include <stop_token>

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
  explicit StopFlag(const std::stop_token& token);
  ~StopFlag();
  StopFlag(const StopFlag&) = delete;
  StopFlag& operator=(const StopFlag&) = delete;
  const std::atomic<bool>& flag() const noexcept { return flag_; }

 private:
  struct Raise {
    std::atomic<bool>& flag;
    void operator()() const noexcept { flag.store(true, std::memory_order_relaxed); }
  };
  std::atomic<bool> flag_{false};
  std::stop_callback<Raise> callback_;
};

}  // namespace antcrew::internal
