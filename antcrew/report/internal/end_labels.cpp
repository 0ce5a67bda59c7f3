#include "antcrew/report/internal/end_labels.hpp"

#include <algorithm>
#include <cmath>

namespace antcrew::internal {

double share_on(const Axis& axis, double value) {
  if (axis.logarithmic) return std::log(std::max(value, 1e-300) / axis.from) / std::log(axis.to / axis.from);
  return (value - axis.from) / (axis.to - axis.from);
}

double value_at(const Axis& axis, double share) {
  if (axis.logarithmic) return axis.from * std::pow(axis.to / axis.from, share);
  return axis.from + share * (axis.to - axis.from);
}

std::vector<EndLabel> end_labels(const Panel& panel) {
  std::vector<EndLabel> labels;
  for (const Series& series : panel.series) {
    if (series.points.empty()) continue;
    const auto last = std::max_element(series.points.begin(), series.points.end(),
                                       [](const FigurePoint& a, const FigurePoint& b) { return a.x < b.x; });
    labels.push_back({series.name, series.colour, std::clamp(share_on(panel.y, last->y), 0.0, 1.0)});
  }
  for (const ReferenceLine& line : panel.references) {
    if (!line.points.empty())
      labels.push_back({line.name, -1, std::clamp(share_on(panel.y, line.points.back().second), 0.0, 1.0), true});
  }
  std::stable_sort(labels.begin(), labels.end(), [](const EndLabel& a, const EndLabel& b) { return a.at > b.at; });
  return labels;
}

}  // namespace antcrew::internal
