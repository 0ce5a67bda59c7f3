#include "antcrew/log/timeline.hpp"

#include <algorithm>
#include <map>

namespace antcrew::internal {
namespace {

TimelineKind kind_of(const Stretch& stretch) noexcept {
  switch (stretch.doing) {
    case Doing::body:
      return stretch.stolen ? TimelineKind::stolen_piece : TimelineKind::piece;
    case Doing::waiting:
      return TimelineKind::wait;
    case Doing::lock:
      return TimelineKind::lock;
    case Doing::stage:
      return TimelineKind::stage;
    case Doing::moving:
      return TimelineKind::moving;
    case Doing::serial:
      return TimelineKind::serial;
    case Doing::starting:
      return TimelineKind::starting;
    case Doing::message:
      return TimelineKind::message;
    case Doing::away:
      break;
  }
  return TimelineKind::idle;
}

bool at_work(TimelineKind kind) noexcept {
  return kind == TimelineKind::piece || kind == TimelineKind::stolen_piece || kind == TimelineKind::serial ||
         kind == TimelineKind::moving;
}

class Drawing {
 public:
  explicit Drawing(const LaneLog& log) : log_(log) {
    line_.wall_s = seconds_at(log.end_ns);
    line_.all_lanes = static_cast<int>(log.lanes.size());
    for (const LaneLock& lock : log.locks) locks_[lock.address] = lock.name == nullptr ? "" : lock.name;
  }

  Timeline timeline() {
    std::vector<TimelineLane> whole;
    for (std::size_t lane = 0; lane < log_.lanes.size(); ++lane) whole.push_back(whole_lane(lane));
    whole = chosen(std::move(whole));
    constexpr double finest = 1.0 / 5000;  // of the call: nobody sees less
    line_.resolution_s = finest * line_.wall_s;
    do {
      line_.lanes.clear();
      line_.merged = 0;
      for (const TimelineLane& lane : whole) line_.lanes.push_back(merged(lane));
      if (stretches() <= most_timeline_stretches) break;
      line_.resolution_s *= 1.5;
    } while (line_.resolution_s < line_.wall_s);
    return std::move(line_);
  }

 private:
  double seconds_at(std::int64_t ns) const noexcept {
    return static_cast<double>(std::clamp(ns, log_.begin_ns, log_.end_ns) - log_.begin_ns) * 1e-9;
  }

  int number_of(const std::string& name) {
    if (name.empty()) return -1;
    const auto found = std::find(line_.names.begin(), line_.names.end(), name);
    if (found != line_.names.end()) return static_cast<int>(found - line_.names.begin());
    line_.names.push_back(name);
    return static_cast<int>(line_.names.size()) - 1;
  }

  std::string name_of_stretch(const Stretch& stretch) const {
    if (stretch.doing == Doing::lock) {
      const auto found = locks_.find(stretch.about);
      return found == locks_.end() ? "" : found->second;
    }
    if (stretch.doing == Doing::stage && stretch.about != nullptr) return static_cast<const char*>(stretch.about);
    if (stretch.doing == Doing::message) return "of rank " + std::to_string(awaited_rank(stretch));
    return stretch.phase == nullptr ? "" : stretch.phase;
  }

  TimelineLane whole_lane(std::size_t lane) {
    TimelineLane whole;
    whole.worker = static_cast<int>(lane);
    double at = 0;
    for (const Stretch& stretch : log_.lanes[lane]) {
      const double to = std::max(at, seconds_at(stretch.end_ns));
      if (to > at) add(whole, {at, to, kind_of(stretch), number_of(name_of_stretch(stretch)), stretch.pieces});
      at = to;
    }
    if (at < line_.wall_s) add(whole, {at, line_.wall_s, TimelineKind::idle, -1, 0});
    return whole;
  }

  static void add(TimelineLane& lane, const TimelineStretch& stretch) {
    if (!lane.stretches.empty()) {
      TimelineStretch& last = lane.stretches.back();
      const bool piece = stretch.what == TimelineKind::piece || stretch.what == TimelineKind::stolen_piece;
      if (last.what == stretch.what && last.name == stretch.name && !piece) {
        last.to_s = stretch.to_s;
        return;
      }
    }
    lane.stretches.push_back(stretch);
  }

  // Of too many lanes the slowest, the fastest, and two in the middle.
  static std::vector<TimelineLane> chosen(std::vector<TimelineLane> all) {
    if (all.size() <= static_cast<std::size_t>(most_timeline_lanes)) return all;
    const auto work = [](const TimelineLane& lane) {
      double seconds = 0;
      for (const TimelineStretch& s : lane.stretches) seconds += at_work(s.what) ? s.to_s - s.from_s : 0;
      return seconds;
    };
    std::stable_sort(all.begin(), all.end(),
                     [&](const TimelineLane& a, const TimelineLane& b) { return work(a) > work(b); });
    const std::size_t middle = all.size() / 2;
    return {all.front(), all[middle - 1], all[middle], all.back()};
  }

  // A stretch shorter than the resolution goes into the one before, and then what is alike stands together.
  TimelineLane merged(const TimelineLane& lane) {
    TimelineLane kept;
    kept.worker = lane.worker;
    for (const TimelineStretch& stretch : lane.stretches) {
      if (kept.stretches.empty()) {
        kept.stretches.push_back(stretch);
        continue;
      }
      TimelineStretch& last = kept.stretches.back();
      const bool alike = last.what == stretch.what && last.name == stretch.name;
      const bool brief = last.to_s - last.from_s < line_.resolution_s;
      const bool is_brief = stretch.to_s - stretch.from_s < line_.resolution_s;
      if (is_brief || (alike && brief)) {
        last.to_s = stretch.to_s;
        last.pieces += stretch.pieces;
        ++line_.merged;
      } else if (brief) {
        const double from = last.from_s;
        const std::int64_t pieces = last.pieces;
        last = stretch;
        last.from_s = from;
        last.pieces += pieces;
        ++line_.merged;
      } else {
        kept.stretches.push_back(stretch);
      }
    }
    return kept;
  }

  std::size_t stretches() const {
    std::size_t count = 0;
    for (const TimelineLane& lane : line_.lanes) count += lane.stretches.size();
    return count;
  }

  const LaneLog& log_;
  Timeline line_;
  std::map<const void*, std::string> locks_;
};

}  // namespace

const char* name_of(TimelineKind kind) noexcept {
  constexpr const char* names[] = {"piece", "stolen piece", "wait",   "idle",     "lock",
                                   "stage", "moving data",  "serial", "starting", "message"};
  return names[static_cast<std::size_t>(kind)];
}

Timeline timeline_of(const LaneLog& log) {
  return Drawing(log).timeline();
}

}  // namespace antcrew::internal
