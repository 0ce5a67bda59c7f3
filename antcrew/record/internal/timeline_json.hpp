// A lane of a timeline as JSON.
#pragma once

#include <algorithm>
#include <cmath>
#include <cstdint>

#include "antcrew/log/timeline.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/record/layer.hpp"

namespace antcrew::internal {

// In columns, in nanoseconds: a stretch begins where the one before it ended. A column in which all is as usual is left
// out.
inline void to_json(Json& json, const TimelineLane& lane) {
  Json to = Json::array(), what = Json::array(), name = Json::array(), pieces = Json::array();
  for (const TimelineStretch& s : lane.stretches) {
    to.push_back(std::llround(s.to_s * 1e9));
    what.push_back(static_cast<int>(s.what));
    name.push_back(s.name);
    pieces.push_back(s.pieces);
  }
  json = {{"worker", lane.worker}, {"to_ns", to}, {"what", what}};
  const auto& all = lane.stretches;
  if (std::any_of(all.begin(), all.end(), [](const TimelineStretch& s) { return s.name >= 0; })) json["name"] = name;
  if (std::any_of(all.begin(), all.end(), [](const TimelineStretch& s) { return s.pieces != 0; }))
    json["pieces"] = pieces;
}
inline void from_json(const Json& json, TimelineLane& lane) {
  json.at("worker").get_to(lane.worker);
  double at = 0;
  for (std::size_t k = 0; k < json.at("to_ns").size(); ++k) {
    const double to = 1e-9 * static_cast<double>(json.at("to_ns").at(k).get<std::int64_t>());
    const int what = std::clamp(json.at("what").at(k).get<int>(), 0, static_cast<int>(TimelineKind::starting));
    lane.stretches.push_back({at, to, static_cast<TimelineKind>(what),
                              json.contains("name") ? json.at("name").at(k).get<int>() : -1,
                              json.contains("pieces") ? json.at("pieces").at(k).get<std::int64_t>() : 0});
    at = to;
  }
}

}  // namespace antcrew::internal
