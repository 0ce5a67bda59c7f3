#include "antcrew/log/coarse_sums.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>
#include <string>

namespace antcrew::internal {
namespace {

using In = SeenThread::In;

bool waits_for_others(In in) noexcept {
  return in == In::join || in == In::word || in == In::signal || in == In::child;
}

// Of a thread's time that it was ready, how much it waited for a processor: over all looks at it in a call.
class Readiness {
 public:
  void add(const SeenThread& thread) {
    Times& times = of_[thread.thread];
    if (thread.ran_ns < 0) return;
    if (times.looks++ == 0) {
      times.first = {thread.ran_ns, thread.waited_ns};
    }
    times.last = {thread.ran_ns, thread.waited_ns};
  }
  double waiting_share(pid_t thread) const {
    const auto found = of_.find(thread);
    if (found == of_.end()) return 0;
    const Times& times = found->second;
    const bool since_birth = times.looks < 2 || times.last == times.first;
    const auto ran = static_cast<double>(times.last.first - (since_birth ? 0 : times.first.first));
    const auto waited = static_cast<double>(times.last.second - (since_birth ? 0 : times.first.second));
    return ran + waited > 0 ? waited / (ran + waited) : 0;
  }

 private:
  struct Times {
    int looks = 0;
    std::pair<std::int64_t, std::int64_t> first, last;
  };
  std::map<pid_t, Times> of_;
};

struct Waiters {
  double lanes = 0;
  double moments = 0;
};

// Looks of one call are taken together: who is still to be born shows in the later ones.
class Adding {
 public:
  explicit Adding(const CoarseCalls& calls) : calls_(calls) {}

  void add_call(const Look* first, const Look* last) {
    Readiness readiness;
    std::map<pid_t, const Look*> born;
    for (const Look* look = first; look != last; ++look) {
      for (const SeenThread& thread : look->threads) {
        readiness.add(thread);
        born.emplace(thread.thread, look);
      }
    }
    for (const Look* look = first; look != last; ++look) {
      const bool more_to_come =
          std::any_of(born.begin(), born.end(), [&](const auto& birth) { return birth.second > look; });
      add_look(*look, readiness, more_to_come);
    }
  }

  LaneSums sums() const {
    LaneSums sums;
    sums.wall_s = calls_.wall_s;
    sums.lanes = calls_.lanes;
    SampleFacts facts = facts_;
    const double moments = std::max(1.0, facts.moments);
    const double each_s = weight_ > 0 ? calls_.wall_s / weight_ : 0;  // of a look of weight 1 at one lane
    for (std::size_t k = 0; k < lane_states; ++k) sums.parts_s.seconds[k] = parts_.seconds[k] * each_s;
    for (auto& [name, value] : facts.blocked_s) value *= each_s;
    facts.processors /= std::max(weight_, 1e-300);
    facts.threads /= moments;
    facts.outside /= moments;
    if (parts_[LaneState::serial_wait] > 0) facts.standing = standing_ / parts_[LaneState::serial_wait];
    sums.cpu_frames_s = sums.parts_s[LaneState::running] + serial_cpu_ * each_s;
    sums.serial_cpu_s = serial_cpu_ * each_s;
    int number = 0;
    for (const auto& [address, waiters] : locks_) {
      LockFacts lock;
      lock.name = "lock " + std::to_string(++number);
      lock.wait_s = waiters.lanes * each_s;
      const double mean = waiters.lanes / std::max(1e-300, waiters.moments);
      if (sums.locks.empty() || lock.wait_s > sums.locks.front().wait_s) facts.lock_waiters = mean;
      sums.locks.insert(
          sums.locks.empty() || lock.wait_s > sums.locks.front().wait_s ? sums.locks.begin() : sums.locks.end(), lock);
    }
    facts.lock_kinds = static_cast<double>(locks_.size());
    constexpr std::size_t most_told = 8;
    if (sums.locks.size() > most_told) sums.locks.resize(most_told);
    sums.looks = std::move(facts);
    return sums;
  }

 private:
  // A caller that waits for those it has begun is no worker; so is one that reads from processes that it has begun.
  bool is_idle_caller(const SeenThread& thread, std::size_t others, bool processes) const {
    if (thread.thread != calls_.caller || others == 0) return false;
    return waits_for_others(thread.in) || (processes && thread.in == In::input);
  }

  void add_look(const Look& look, const Readiness& readiness, bool more_to_come) {
    std::vector<const SeenThread*> busy;
    std::vector<const SeenThread*> waiting;
    std::size_t others = 0;
    bool processes = false;
    for (const SeenThread& thread : look.threads) {
      if (thread.in == In::ended || thread.thread == calls_.caller) continue;
      ++others;
      processes = processes || thread.process != calls_.caller;
    }
    bool caller_free = false;
    for (const SeenThread& thread : look.threads) {
      if (thread.in == In::ended || is_idle_caller(thread, others, processes)) continue;
      caller_free = caller_free || thread.thread == calls_.caller;
      (waits_for_others(thread.in) ? waiting : busy).push_back(&thread);
    }
    facts_.moments += 1;
    facts_.most_there = std::max(facts_.most_there, static_cast<double>(busy.size() + waiting.size()));
    weight_ += look.weight;
    now_ = look.weight;
    facts_.threads += static_cast<double>(others + 1);
    const auto lanes = static_cast<std::size_t>(calls_.lanes);
    facts_.lanes += static_cast<double>(lanes);
    // Alone: nobody else is busy, whether or not others stand by.
    const bool alone = busy.size() == 1 && busy.front()->thread == calls_.caller && lanes > 1;
    std::set<std::uint64_t> waited_for;
    std::size_t taken = 0;
    for (const SeenThread* thread : busy) {
      if (taken == lanes) {
        facts_.outside += 1;
        continue;
      }
      ++taken;
      add_lane(*thread, readiness, alone, waited_for);
    }
    for (const std::uint64_t address : waited_for) locks_[address].moments += now_;
    for (const SeenThread* thread : waiting) {
      if (taken == lanes) break;
      ++taken;
      if (alone) standing_ += now_;
      parts_[alone                      ? LaneState::serial_wait
             : thread->in == In::signal ? LaneState::no_work
                                        : LaneState::imbalance] += now_;
    }
    const auto missing = static_cast<double>(lanes - taken);
    const LaneState where = alone                         ? LaneState::serial_wait
                            : caller_free && more_to_come ? LaneState::start_up
                                                          : LaneState::imbalance;
    parts_[where] += now_ * missing;
  }

  void block(const char* what) {
    parts_[LaneState::blocked] += now_;
    facts_.blocked_s[what] += now_;
  }

  void add_lane(const SeenThread& thread, const Readiness& readiness, bool alone, std::set<std::uint64_t>& waited_for) {
    switch (thread.in) {
      case In::ready: {
        const double waits = now_ * readiness.waiting_share(thread.thread);
        parts_[alone ? LaneState::serial : LaneState::running] += now_ - waits;
        parts_[LaneState::waiting_to_run] += waits;
        facts_.processors += now_ - waits;
        if (alone) serial_cpu_ += now_ - waits;
        return;
      }
      case In::lock:
        parts_[LaneState::lock] += now_;
        locks_[thread.address].lanes += now_;
        waited_for.insert(thread.address);
        return;
      case In::sleep:
        return alone ? void(parts_[LaneState::serial] += now_) : block("sleep");
      case In::input:
        return alone ? void(parts_[LaneState::serial] += now_) : block("input");
      case In::memory:
        return block("page");
      default:
        return block("not told");
    }
  }

  const CoarseCalls& calls_;
  LaneParts parts_;  // in looks at a lane
  double serial_cpu_ = 0;
  double standing_ = 0;
  double weight_ = 0;  // of all looks
  double now_ = 1;     // of this one
  SampleFacts facts_;
  std::map<std::uint64_t, Waiters> locks_;
};

}  // namespace

LaneSums coarse_sums(const std::vector<Look>& looks, const CoarseCalls& calls) {
  Adding adding(calls);
  for (auto at = looks.begin(); at != looks.end();) {
    const auto end = std::find_if(at, looks.end(), [&](const Look& look) { return look.call != at->call; });
    adding.add_call(looks.data() + (at - looks.begin()), looks.data() + (end - looks.begin()));
    at = end;
  }
  return adding.sums();
}

double share_error(const SampleFacts& looks) noexcept {
  return looks.moments > 0 ? 1.96 * 0.5 / std::sqrt(looks.moments) : 1;
}

}  // namespace antcrew::internal
