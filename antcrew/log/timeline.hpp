// What each worker of one metered call did when, short enough to be kept and drawn.
//
//   Timeline line = timeline_of(book.log());
//   for (const TimelineLane& lane : line.lanes) for (const TimelineStretch& s : lane.stretches) draw(lane.worker, s);
//
// Stretches of a lane follow each other without gaps. Those shorter than the resolution are counted into the one
// before them; where there are still too many, the resolution is made coarser until they fit. Pure arithmetic.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "antcrew/log/lane_log.hpp"

namespace antcrew::internal {

enum class TimelineKind : std::uint8_t {
  piece,
  stolen_piece,
  wait,
  idle,
  lock,
  stage,
  moving,
  serial,
  starting,
  message
};
const char* name_of(TimelineKind kind) noexcept;

struct TimelineStretch {
  double from_s = 0;  // since the call began
  double to_s = 0;
  TimelineKind what = TimelineKind::idle;
  int name = -1;  // in Timeline::names: the phase, the lock, the stage; -1 = none
  std::int64_t pieces = 0;

  friend bool operator==(const TimelineStretch&, const TimelineStretch&) = default;
};

struct TimelineLane {
  int worker = 0;
  std::vector<TimelineStretch> stretches;

  friend bool operator==(const TimelineLane&, const TimelineLane&) = default;
};

struct Timeline {
  std::vector<std::string> names;
  std::vector<TimelineLane> lanes;  // all of them, or the slowest, the fastest and two typical ones, by time at work
  int all_lanes = 0;
  double wall_s = 0;
  double resolution_s = 0;
  std::int64_t merged = 0;  // stretches that were shorter

  friend bool operator==(const Timeline&, const Timeline&) = default;
};

// Of up to so many lanes all are kept, of more four.
inline constexpr int most_timeline_lanes = 16;
// All lanes together.
inline constexpr std::size_t most_timeline_stretches = 200;

Timeline timeline_of(const LaneLog& log);

}  // namespace antcrew::internal
