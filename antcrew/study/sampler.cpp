#include "antcrew/study/sampler.hpp"

#include <sched.h>

#include <algorithm>

#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {

// Who looks must not wait until a processor is free: it would see the busy times less often. Where the system lets it,
// it goes before others while it looks; a fiftieth of a processor is all it takes. What it begins does not.
Sampler::Sampler(pid_t process, const std::atomic<std::int64_t>& call, std::atomic<std::int64_t>& looks)
    : threads_(std::make_unique<ThreadSamples>(process)),
      process_(process),
      watched_(process),
      call_(call),
      count_(looks),
      policy_(::sched_getscheduler(0)) {
  sched_param first{};
  first.sched_priority = 1;
  ahead_ = ::sched_setscheduler(0, SCHED_FIFO | SCHED_RESET_ON_FORK, &first) == 0;
}

void Sampler::watch(pid_t process) {
  refused_ = refused_ || threads_->refused();
  threads_ = std::make_unique<ThreadSamples>(process);
  watched_ = process;
}

void Sampler::stop() noexcept {
  const sched_param usual{};
  if (ahead_) ::sched_setscheduler(0, policy_, &usual);
  ahead_ = false;
}

double Sampler::look() {
  constexpr double dear_s = 0.3e-3;  // at many threads: then more of it is needed, or there are too few looks to tell
  constexpr double shortest_s = 0.3e-3;
  constexpr std::size_t most_looks = 20'000;
  const std::int64_t before = call_.load(std::memory_order_acquire);
  if (before > 0 && looks_.size() < most_looks) {
    const std::int64_t began = thread_cpu_ns();
    const std::int64_t looked_ns = now_ns();
    const std::vector<SeenThread>& seen = threads_->now();
    // A call that ended meanwhile was not seen at one moment.
    unseen_ += seen.empty() ? 1 : 0;
    if (call_.load(std::memory_order_acquire) == before && !seen.empty()) {
      looks_.push_back({before, seen, 1});
      for (SeenThread& thread : looks_.back().threads) {
        if (thread.process == watched_) thread.process = process_;
        if (thread.thread == watched_) thread.thread = process_;
      }
      at_ns_.push_back(looked_ns);
      began_ns_.emplace(before, idle_ns_);
      count_.fetch_add(1);
    }
    const double took_s = static_cast<double>(thread_cpu_ns() - began) * 1e-9;
    look_s_ = look_s_ > 0 ? 0.9 * look_s_ + 0.1 * took_s : took_s;
    looking_s_ += took_s;
  }
  if (before <= 0) idle_ns_ = now_ns();
  const double share = look_s_ > dear_s ? 1.0 / 25 : 1.0 / 50;
  const double mean_s = std::max(shortest_s, look_s_ / share);
  const double pause_s = std::min(5 * mean_s, std::exponential_distribution<double>(1 / mean_s)(random_));
  if (before > 0) pauses_s_ += pause_s;
  return pause_s;
}

// A look stands for the time around it, to the middle between it and its neighbours: where all processors are busy,
// looks come late and lie further apart.
void Sampler::weigh(std::vector<Look>& looks, const std::vector<std::int64_t>& at_ns, double wall_s) const {
  const auto wall_ns = static_cast<std::int64_t>(wall_s * 1e9);
  for (std::size_t first = 0; first < looks.size();) {
    std::size_t last = first;
    while (last + 1 < looks.size() && looks[last + 1].call == looks[first].call) ++last;
    // The call began between the moment at which none was open and its first look, and is as long as its like.
    const std::int64_t earliest = std::max(began_ns_.at(looks[first].call), at_ns[last] - wall_ns);
    const std::int64_t begin = (std::min(earliest, at_ns[first]) + at_ns[first]) / 2;
    const std::int64_t end = std::max(at_ns[last], begin + wall_ns);
    for (std::size_t k = first; k <= last; ++k) {
      const std::int64_t from = k == first ? begin : (at_ns[k - 1] + at_ns[k]) / 2;
      const std::int64_t to = k == last ? end : (at_ns[k] + at_ns[k + 1]) / 2;
      looks[k].weight = static_cast<double>(std::max<std::int64_t>(1, to - from));
    }
    first = last + 1;
  }
}

namespace {

// Looks see how long lanes wait; the calls themselves counted where, and how long each wait took. Where nearly all
// waits are at one place, the lock that is waited for most has it. A thread that was just woken looks as if it ran: so
// much of the lanes' time as the kernel knows nothing of was a wait, where the counted waits are longer than the seen
// ones.
void tell_places(LaneSums& sums, std::vector<LockFacts> counted) {
  constexpr double nearly_all = 0.8;
  std::erase_if(counted, [](const LockFacts& lock) { return lock.name != "mutex" && lock.name != "shared mutex"; });
  const LockFacts* most = nullptr;
  double waited_s = 0;
  for (const LockFacts& lock : counted) {
    waited_s += lock.wait_s;
    if (most == nullptr || lock.wait_s > most->wait_s) most = &lock;
  }
  if (most == nullptr || most->wait_s < nearly_all * waited_s) return;
  const double unseen_s = std::min({waited_s - sums.parts_s[LaneState::lock], sums.cpu_frames_s - sums.cpu_kernel_s,
                                    sums.parts_s[LaneState::running]});
  if (unseen_s > 0) {
    sums.parts_s[LaneState::lock] += unseen_s;
    sums.parts_s[LaneState::running] -= unseen_s;
    sums.cpu_frames_s -= unseen_s;
  }
  if (sums.locks.empty()) sums.locks.emplace_back();
  sums.locks.front().place = most->place;
  sums.locks.front().waits = most->waits;
  sums.locks.front().wait_s = std::max(sums.locks.front().wait_s, most->wait_s);
  if (sums.locks.front().name.empty()) sums.locks.front().name = most->name;
}

}  // namespace

void Sampler::fill(std::vector<LaneSums>& groups) {
  for (std::size_t g = 0; g < groups.size(); ++g) {
    std::vector<Look> of_group;
    std::vector<std::int64_t> at_ns;
    for (std::size_t k = 0; k < looks_.size(); ++k) {
      if (looks_[k].call / calls_of_a_group != static_cast<std::int64_t>(g)) continue;
      of_group.push_back(looks_[k]);
      at_ns.push_back(at_ns_[k]);
    }
    LaneSums& sums = groups[g];
    if (looks_.empty() && unseen_ > 0)
      sums.withheld = "it works without a crew, and the system does not show what its threads do (/proc)";
    weigh(of_group, at_ns, sums.wall_s);
    LaneSums coarse = coarse_sums(of_group, {sums.lanes, process_, sums.wall_s});
    sums.parts_s = coarse.parts_s;
    sums.cpu_frames_s = coarse.cpu_frames_s;
    sums.cpu_kernel_s = sums.cpu_tree_s;
    sums.serial_cpu_s = coarse.serial_cpu_s;
    std::vector<LockFacts> counted = std::move(sums.locks);
    sums.locks = std::move(coarse.locks);
    sums.serials.clear();
    sums.looks = std::move(coarse.looks);
    tell_places(sums, std::move(counted));
    sums.looks->refused = (refused_ || threads_->refused());
    sums.looks->own_share = pauses_s_ + looking_s_ > 0 ? looking_s_ / (pauses_s_ + looking_s_) : 0;
  }
}

}  // namespace antcrew::internal
