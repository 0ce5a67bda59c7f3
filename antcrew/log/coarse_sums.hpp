// Where the worker-seconds of calls without a crew went: looks at their threads, added up.
//
//   LaneSums sums = coarse_sums(looks, {.lanes = 4, .caller = pid, .wall_s = 0.012});
//
// The coarse form of the ledger: a share of looks in place of a sum of stretches, true to some points (SampleFacts).
// Who is in a lane: threads that are busy, asleep or at a lock, before those that wait for others, the older before the
// younger. A caller that waits for the others is in none. Lanes that are missing are not there yet (start_up) while
// more threads are to come and the caller is free to begin them, done already (imbalance) otherwise, and idle beside a
// serial stretch (serial_wait) while the caller works alone. Pure arithmetic.
#pragma once

#include <cstdint>
#include <vector>

#include "antcrew/log/lane_sums.hpp"
#include "antcrew/machine/thread_samples.hpp"

namespace antcrew::internal {

// One moment of one call.
struct Look {
  std::int64_t call = 0;  // its number
  std::vector<SeenThread> threads;
  double weight = 1;  // how much of the call it stands for, against other looks
};

struct CoarseCalls {
  int lanes = 1;      // workers asked for
  pid_t caller = 0;   // the thread that makes the calls; also the number of its process
  double wall_s = 0;  // of a call, the mean
};

// Looks of calls alike, in the order of time. The parts are of one call and add up to lanes × wall_s.
LaneSums coarse_sums(const std::vector<Look>& looks, const CoarseCalls& calls);

// Under so many looks at lanes a share is not good to 5 points.
inline constexpr double enough_looks = 400;
// Half-width of the 95 % interval of a share of one half, the widest, over so many independent moments.
double share_error(const SampleFacts& looks) noexcept;

}  // namespace antcrew::internal
