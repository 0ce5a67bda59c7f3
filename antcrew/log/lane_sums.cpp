#include "antcrew/log/lane_sums.hpp"

#include <algorithm>
#include <cstring>
#include <limits>
#include <tuple>

#include "antcrew/log/internal/flat_regions.hpp"

namespace antcrew::internal {

namespace {

class LaneAdder {
 public:
  explicit LaneAdder(const LaneLog& log) : log_(log) {}

  LaneSums sums() {
    sums_.wall_s = s_of(log_.end_ns - log_.begin_ns);
    sums_.lanes = static_cast<int>(log_.lanes.size());
    sums_.lane_body_s.assign(log_.lanes.size(), 0);
    for (std::size_t lane = 0; lane < log_.lanes.size(); ++lane)
      lanes_.push_back(slices_of(log_, lane, sums_.delay_known, sums_.cpu_frames_s));
    if (log_.ranks) sums_.ranks = *log_.ranks;
    if (log_.ranks) sums_.ranks->parts_s.resize(log_.lanes.size());
    if (log_.ranks) moving_alone_ = moving_alone(lanes_);
    segments_ = segments_of(log_, lanes_);
    regions_ = outer_regions_of(log_, lanes_);
    for (std::size_t lane = 0; lane < lanes_.size(); ++lane) {
      const LaneParts before = sums_.parts_s;
      add_lane(lane);
      if (sums_.ranks) keep_own(sums_.ranks->parts_s[lane], before);
    }
    for (FlatRegion& region : regions_) add_region(region);
    sums_.parts_s[LaneState::moving_data] += take_touching_again();
    if (log_.path_ns > 0) sums_.critical_path_s = s_of(log_.path_ns) + sums_.parts_s[LaneState::serial];
    for (const auto& [who, seconds] : message_waits_) sums_.ranks->waits.push_back({who.first, who.second, seconds});
    add_locks();
    add_stages();
    finish();
    return std::move(sums_);
  }

 private:
  void add(LaneState state, double seconds, const char* phase) {
    sums_.parts_s[state] += seconds;
    if (phase != nullptr) sums_.phases[phase][state] += seconds;
  }

  void add_lane(std::size_t lane) {
    std::size_t segment = 0;
    for (const Slice& slice : lanes_[lane]) {
      while (segment > 0 && segments_[segment].begin_ns > slice.begin_ns) --segment;
      while (segment + 1 < segments_.size() && segments_[segment].end_ns <= slice.begin_ns) ++segment;
      if (slice.end_ns <= slice.begin_ns || segments_.empty()) continue;
      std::int64_t at = slice.begin_ns;
      for (std::size_t k = segment; k < segments_.size() && at < slice.end_ns; ++k) {
        const Segment& part = segments_[k];
        const std::int64_t to = k + 1 == segments_.size() ? slice.end_ns : std::min(part.end_ns, slice.end_ns);
        if (to <= at) continue;
        add_part(lane, slice, part, at, to);
        at = to;
      }
    }
  }

  void add_part(std::size_t lane, const Slice& slice, const Segment& segment, std::int64_t from, std::int64_t to) {
    const double wall_s = s_of(to - from);
    const double share = slice.wall_s() > 0 ? wall_s / slice.wall_s() : 0;
    const char* own = slice.stretch != nullptr ? slice.stretch->phase : nullptr;
    const char* phase = own != nullptr ? own : segment.phase;
    // A rank may be at an order that rank 0 has left behind.
    const bool own_region = log_.ranks && slice.stretch != nullptr && slice.stretch->region != 0;
    const std::uint32_t number = own_region ? slice.stretch->region : segment.region;
    FlatRegion* region = number == 0 ? nullptr : region_of(number);
    switch (slice.doing) {
      case Doing::body: {
        const double cpu_s = std::min(wall_s, slice.cpu_s * share);
        const double off_s = wall_s - cpu_s;
        const double delay_s = slice.never_slept ? off_s : std::min(off_s, slice.delay_s * share);
        add(LaneState::running, cpu_s, phase);
        add(LaneState::waiting_to_run, delay_s, phase);
        add(LaneState::blocked, wall_s - cpu_s - delay_s, phase);
        sums_.lane_body_s[lane] += wall_s;
        if (region != nullptr) region->add_body(lane, wall_s, cpu_s, delay_s);
        return;
      }
      case Doing::serial: {
        const double off_s = wall_s - std::min(wall_s, slice.cpu_s * share);
        const double delay_s = slice.never_slept ? off_s : std::min(off_s, slice.delay_s * share);
        add(LaneState::waiting_to_run, delay_s, phase);
        add(LaneState::serial, wall_s - delay_s, phase);
        sums_.serial_cpu_s += std::min(wall_s, slice.cpu_s * share);
        if (region == nullptr) add_serial(segment, wall_s, phase);
        return;
      }
      case Doing::starting:
        return add(LaneState::start_up, wall_s, phase);
      case Doing::lock:
        add(LaneState::lock, wall_s, phase);
        lock_waits_[slice.stretch->about].first += wall_s;
        if (to == slice.end_ns) ++lock_waits_[slice.stretch->about].second;
        if (region != nullptr) region->add_lock(lane, wall_s);
        return;
      case Doing::stage:
        add(LaneState::stage, wall_s, phase);
        add_shortage(*slice.stretch, wall_s);
        return;
      case Doing::moving:
        return add(LaneState::moving_data, wall_s, phase);
      case Doing::message: {
        const double off_s = wall_s - std::min(wall_s, slice.cpu_s * share);
        const double delay_s = slice.never_slept ? off_s : std::min(off_s, slice.delay_s * share);
        add(LaneState::waiting_to_run, delay_s, phase);
        add(LaneState::message, wall_s - delay_s, phase);
        if (sums_.ranks) message_waits_[{static_cast<int>(lane), awaited_rank(*slice.stretch)}] += wall_s - delay_s;
        return;
      }
      case Doing::away:
      case Doing::waiting: {
        const auto delay_ns = static_cast<std::int64_t>(slice.delay_s * 1e9);
        const std::int64_t cut = std::clamp(slice.end_ns - delay_ns, from, to);
        if (cut < to) add(LaneState::waiting_to_run, s_of(to - cut), phase);
        if (cut > from) add_idle(lane, slice, segment, region, from, cut, phase);
        return;
      }
    }
  }

  // The first state that fits an idle lane.
  void add_idle(std::size_t lane, const Slice& slice, const Segment& segment, FlatRegion* region, std::int64_t from,
                std::int64_t to, const char* phase) {
    const double wall_s = s_of(to - from);
    if (region == nullptr) return add(segment.starting ? LaneState::start_up : LaneState::serial_wait, wall_s, phase);
    const LaneRegion& its = log_.regions[region->number - 1];
    const bool begun = region->begun_ns(lane) <= from;
    const auto late = [&](double seconds, LaneState state) {
      add(state, seconds, phase);
      region->facts.dispatch_s += state == LaneState::dispatch ? seconds : 0;
      region->facts.late_s += state == LaneState::dispatch && !begun ? seconds : 0;
    };
    if (its.sharing == Sharing::ranks || its.sharing == Sharing::rank_pieces) {
      if (!begun) return late(wall_s, LaneState::dispatch);
      const std::int64_t cut = std::clamp(region->last_end_ns, from, to);
      const double before_s = while_moving_s(moving_alone_, from, cut);
      const double after_s = while_moving_s(moving_alone_, cut, to);
      add(LaneState::moving_data, before_s + after_s, phase);
      imbalance(*region, s_of(cut - from) - before_s, phase);
      return late(s_of(to - cut) - after_s, LaneState::dispatch);
    }
    if (its.sharing == Sharing::processes) {
      if (!begun) return late(wall_s, its.grows ? LaneState::start_up : LaneState::dispatch);
      const std::int64_t cut = std::clamp(region->last_end_ns, from, to);
      imbalance(*region, s_of(cut - from), phase);
      const double moving_s = std::min(s_of(to - cut), parent_moving_s(cut, to));
      add(LaneState::moving_data, moving_s, phase);
      return late(s_of(to - cut) - moving_s, LaneState::dispatch);
    }
    if (its.sharing == Sharing::even || its.sharing == Sharing::pieces || its.sharing == Sharing::stages) {
      if (!begun && region->takes_part(lane))
        return late(wall_s, its.grows ? LaneState::start_up : LaneState::dispatch);
      // Waiting for somebody who is only being started.
      const std::int64_t cut = its.grows ? std::clamp(last_begun_ns(*region), from, to) : from;
      add(LaneState::start_up, s_of(cut - from), phase);
      return imbalance(*region, s_of(to - cut), phase);
    }
    if (its.sharing == Sharing::halves && !its.grows) {
      const std::int64_t cut = std::clamp(region->all_out_ns, from, to);
      late(s_of(cut - from), LaneState::dispatch);
      return imbalance(*region, s_of(to - cut), phase);
    }
    const std::int64_t called = slice.stretch == nullptr ? 0 : slice.stretch->called_ns;
    const std::int64_t cut = called == 0 ? to : std::clamp(called, from, to);
    add(LaneState::no_work, s_of(cut - from), phase);
    region->facts.no_work_s += s_of(cut - from);
    late(s_of(to - cut), LaneState::dispatch);
  }

  std::int64_t last_begun_ns(const FlatRegion& region) const {
    std::int64_t last = 0;
    for (std::size_t lane = 0; lane < region.lanes.size(); ++lane) {
      if (region.takes_part(lane) && region.begun_ns(lane) < log_.end_ns) last = std::max(last, region.begun_ns(lane));
    }
    return last;
  }

  void imbalance(FlatRegion& region, double seconds, const char* phase) {
    add(LaneState::imbalance, seconds, phase);
    region.facts.imbalance_s += seconds;
  }

  double parent_moving_s(std::int64_t from, std::int64_t to) const {
    double seconds = 0;
    std::int64_t at = log_.begin_ns;
    for (const Stretch& stretch : log_.parent) {
      if (stretch.doing == Doing::moving)
        seconds += s_of(std::max<std::int64_t>(0, std::min(to, stretch.end_ns) - std::max(from, at)));
      at = stretch.end_ns;
    }
    return seconds;
  }

  void keep_own(LaneParts& own, const LaneParts& before) const {
    for (std::size_t k = 0; k < lane_states; ++k) own.seconds[k] = sums_.parts_s.seconds[k] - before.seconds[k];
  }

  // Faults on memory that a fork made shared were met by the caller, in between.
  double take_touching_again() {
    const double seconds = std::min(s_of(log_.touched_again_ns), sums_.parts_s[LaneState::serial]);
    sums_.parts_s[LaneState::serial] -= seconds;
    return seconds;
  }

  void add_serial(const Segment& segment, double seconds, const char* phase) {
    const std::string after = place_of(log_, segment.region_before);
    const std::string before = place_of(log_, segment.region_after);
    SerialFacts& facts = serials_[{after, before, phase == nullptr ? "" : phase}];
    facts.after = after;
    facts.before = before;
    facts.phase = phase == nullptr ? "" : phase;
    facts.seconds += seconds;
    facts.count += 1;
  }

  void add_shortage(const Stretch& stretch, double seconds) {
    if (stretch.shortage == Shortage::buffer_full) sums_.buffer_full_s += seconds;
    if (stretch.shortage == Shortage::source) sums_.source_s += seconds;
    if (stretch.about != nullptr) stage_waits_[static_cast<const char*>(stretch.about)] += seconds;
  }

  FlatRegion* region_of(std::uint32_t number) {
    const auto at = std::lower_bound(regions_.begin(), regions_.end(), number,
                                     [](const FlatRegion& r, std::uint32_t wanted) { return r.number < wanted; });
    return at == regions_.end() || at->number != number ? nullptr : &*at;
  }

  void add_region(FlatRegion& region) {
    region.divide_imbalance(log_);
    const std::string place = place_of(log_, region.number);
    region.facts.place = place;
    region.facts.sharing = sharing_name(log_.regions[region.number - 1].sharing);
    const auto known = std::find_if(sums_.by_place.begin(), sums_.by_place.end(), [&](const RegionFacts& facts) {
      return facts.place == place && facts.sharing == region.facts.sharing;
    });
    if (known == sums_.by_place.end()) {
      sums_.by_place.push_back(region.facts);
    } else {
      add_up(*known, region.facts);
    }
    ++sums_.regions;
    if (region.facts.wall_s < 20e-6) sums_.short_regions_s += region.facts.wall_s;
  }

  void add_locks() {
    for (const LaneLock& lock : log_.locks) {
      LockFacts facts;
      facts.name = lock.name == nullptr ? "" : lock.name;
      facts.holds = static_cast<double>(lock.holds);
      facts.place = lock.place;
      facts.waits = static_cast<double>(lock.waits);
      facts.wait_s = s_of(lock.waited_ns);
      if (lock.timed_holds > 0) {
        const double each = facts.holds / static_cast<double>(lock.timed_holds);
        facts.hold_s = s_of(lock.timed_ns) * each;
        facts.hold_off_s = s_of(lock.timed_ns - lock.timed_cpu_ns) * each;
      }
      if (const auto waits = lock_waits_.find(lock.address); waits != lock_waits_.end()) {
        facts.wait_s = waits->second.first;
        facts.waits = waits->second.second;
      }
      sums_.locks.push_back(std::move(facts));
    }
  }

  void add_stages() {
    for (const LaneStage& stage : log_.stages) {
      const auto known = std::find_if(sums_.stages.begin(), sums_.stages.end(),
                                      [&](const StageFigures& s) { return s.name == stage.name; });
      StageFigures& to = known == sums_.stages.end() ? sums_.stages.emplace_back() : *known;
      to.name = stage.name;
      to.alone = stage.alone;
      to.busy_s += s_of(stage.busy_ns);
      to.items += static_cast<double>(stage.items);
      if (const auto waited = stage_waits_.find(stage.name); waited != stage_waits_.end()) to.waited_s = waited->second;
    }
  }

  void finish() {
    constexpr std::size_t most_told = 8;
    for (auto& [key, facts] : serials_) sums_.serials.push_back(std::move(facts));
    keep_largest(sums_.serials, most_told, [](const SerialFacts& f) { return f.seconds; });
    keep_largest(sums_.locks, most_told, [](const LockFacts& f) { return f.wait_s + f.hold_s; });
    keep_largest(sums_.by_place, most_told,
                 [](const RegionFacts& f) { return f.imbalance_s + f.dispatch_s + f.no_work_s + f.body_s; });
    double kernel_s = 0;
    bool known = !log_.kernel_cpu_ns.empty();
    for (const std::int64_t ns : log_.kernel_cpu_ns) {
      known = known && ns >= 0;
      kernel_s += s_of(ns);
    }
    sums_.cpu_kernel_s = known ? kernel_s : 0;
    sums_.parent_cpu_s = s_of(log_.parent_cpu_ns);
    sums_.calls_outside = static_cast<double>(log_.calls_outside);
    sums_.events = static_cast<double>(log_.events);
    sums_.forks = static_cast<double>(log_.forks);
    if (log_.unfinished) sums_.withheld = "work went on after the call had returned";
    if (log_.lost > 0) sums_.withheld = "the log had no room for all that happened";
    sums_.parts_s[LaneState::unaccounted] += sums_.lane_seconds() - sums_.parts_s.sum();
  }

  template <class Facts, class Weight>
  static void keep_largest(std::vector<Facts>& all, std::size_t most, Weight weight) {
    std::stable_sort(all.begin(), all.end(), [&](const Facts& a, const Facts& b) { return weight(a) > weight(b); });
    if (all.size() > most) all.resize(most);
  }

  const LaneLog& log_;
  LaneSums sums_;
  std::vector<std::vector<Slice>> lanes_;
  std::vector<Segment> segments_;
  std::vector<FlatRegion> regions_;
  std::map<std::tuple<std::string, std::string, std::string>, SerialFacts> serials_;
  std::map<const void*, std::pair<double, double>> lock_waits_;
  std::map<std::pair<int, int>, double> message_waits_;
  std::vector<Stretched> moving_alone_;
  std::map<std::string, double> stage_waits_;
};

}  // namespace

LaneSums sums_of(const LaneLog& log) {
  return LaneAdder(log).sums();
}

}  // namespace antcrew::internal
