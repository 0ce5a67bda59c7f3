#include "antcrew/study/internal/sampler.hpp"

#include <algorithm>

#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {

double Sampler::look() {
  constexpr double share = 1.0 / 50;
  constexpr double shortest_s = 0.3e-3;
  constexpr std::size_t most_looks = 20'000;
  const std::int64_t before = call_.load(std::memory_order_acquire);
  if (before > 0 && looks_.size() < most_looks) {
    const std::int64_t began = thread_cpu_ns();
    const std::vector<SeenThread>& seen = threads_.now();
    // A call that ended meanwhile was not seen at one moment.
    if (call_.load(std::memory_order_acquire) == before) {
      looks_.push_back({before, seen});
      count_.fetch_add(1);
    }
    const double took_s = static_cast<double>(thread_cpu_ns() - began) * 1e-9;
    look_s_ = look_s_ > 0 ? 0.9 * look_s_ + 0.1 * took_s : took_s;
    looking_s_ += took_s;
  }
  const double mean_s = std::max(shortest_s, look_s_ / share);
  const double pause_s = std::min(5 * mean_s, std::exponential_distribution<double>(1 / mean_s)(random_));
  if (before > 0) pauses_s_ += pause_s;
  return pause_s;
}

void Sampler::fill(std::vector<LaneSums>& groups) const {
  for (std::size_t g = 0; g < groups.size(); ++g) {
    std::vector<Look> of_group;
    for (const Look& look : looks_) {
      if (look.call / calls_of_a_group == static_cast<std::int64_t>(g)) of_group.push_back(look);
    }
    LaneSums& sums = groups[g];
    LaneSums coarse = coarse_sums(of_group, {sums.lanes, stand_, sums.wall_s});
    sums.parts_s = coarse.parts_s;
    sums.cpu_frames_s = coarse.cpu_frames_s;
    sums.cpu_kernel_s = sums.cpu_tree_s;
    sums.serial_cpu_s = coarse.serial_cpu_s;
    sums.locks = std::move(coarse.locks);
    sums.serials.clear();
    sums.looks = std::move(coarse.looks);
    sums.looks->refused = threads_.refused();
    sums.looks->own_share = pauses_s_ + looking_s_ > 0 ? looking_s_ / (pauses_s_ + looking_s_) : 0;
  }
}

}  // namespace antcrew::internal
