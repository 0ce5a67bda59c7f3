// Looks at the threads of a cell process at random moments while it makes metered calls, from the coordinator.
//
//   Sampler sampler(cell process, board.metered_call, board.looks);
//   channel.receive_looking([&] { return sampler.look(); });
//   sampler.fill(groups);
#pragma once

#include <sys/types.h>

#include <atomic>
#include <cstdint>
#include <map>
#include <memory>
#include <random>
#include <vector>

#include "antcrew/log/coarse_sums.hpp"
#include "antcrew/machine/thread_samples.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

// A metered call that is looked at has a number: that of its group times this, and its own from 1 on. 0 = none is open.
inline constexpr std::int64_t calls_of_a_group = 1'000'000;

class Sampler {
 public:
  // looks: counts those that count, for the cell process to see.
  Sampler(pid_t process, const std::atomic<std::int64_t>& call, std::atomic<std::int64_t>& looks);
  ~Sampler() { stop(); }
  Sampler(const Sampler&) = delete;
  Sampler& operator=(const Sampler&) = delete;

  // Looks, if a metered call is open. Returns how long to wait for the next, in seconds: random, so that no pattern of
  // the calls can hide from it, and long enough that looking takes less than a fiftieth of a processor.
  double look();
  // From here on another process is looked at, of calls to come: its main thread counts as that of the first.
  void watch(pid_t process);
  // This thread goes before others no more.
  void stop() noexcept;

  // Fills in, for each of these groups of calls, where their lanes were seen. Needs lanes and wall_s.
  void fill(std::vector<LaneSums>& groups);

 private:
  void weigh(std::vector<Look>& looks, const std::vector<std::int64_t>& at_ns, double wall_s) const;

  std::unique_ptr<ThreadSamples> threads_;
  pid_t process_;  // the first
  pid_t watched_;
  const std::atomic<std::int64_t>& call_;
  std::atomic<std::int64_t>& count_;
  std::vector<Look> looks_;
  std::vector<std::int64_t> at_ns_;                // of each look
  std::map<std::int64_t, std::int64_t> began_ns_;  // of each call, as well as it is known
  std::int64_t idle_ns_ = 0;                       // when it was last seen that no call is open
  int policy_ = 0;                                 // of this thread before
  std::int64_t unseen_ = 0;                        // looks at which the system showed no thread at all
  bool refused_ = false;
  bool ahead_ = false;    // this thread goes before others
  double look_s_ = 0;     // what one takes: a running mean
  double looking_s_ = 0;  // all of them
  double pauses_s_ = 0;
  std::mt19937_64 random_{0x5eed};
};

}  // namespace antcrew::internal
