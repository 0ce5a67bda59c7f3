#include "antcrew/report/internal/end_labels.hpp"

#include <algorithm>
#include <cmath>

namespace antcrew::internal {

double share_on(const Axis& axis, double value) {
  if (axis.logarithmic) return std::log(std::max(value, 1e-300) / axis.from) / std::log(axis.to / axis.from);
  return (value - axis.from) / (axis.to - axis.from);
}

std::vector<EndLabel> end_labels(const Panel& panel, double apart) {
  std::vector<EndLabel> labels;
  for (const Series& series : panel.series) {
    if (series.points.empty()) continue;
    const auto last = std::max_element(series.points.begin(), series.points.end(),
                                       [](const FigurePoint& a, const FigurePoint& b) { return a.x < b.x; });
    labels.push_back({series.name, series.colour, std::clamp(share_on(panel.y, last->y), 0.0, 1.0)});
  }
  for (const ReferenceLine& line : panel.references) {
    if (!line.points.empty())
      labels.push_back({line.name, -1, std::clamp(share_on(panel.y, line.points.back().second), 0.0, 1.0)});
  }
  std::stable_sort(labels.begin(), labels.end(), [](const EndLabel& a, const EndLabel& b) { return a.at > b.at; });
  // Down from the top, then up again from the bottom where that led below it.
  for (std::size_t k = 1; k < labels.size(); ++k) labels[k].at = std::min(labels[k].at, labels[k - 1].at - apart);
  if (!labels.empty()) labels.back().at = std::max(labels.back().at, 0.0);
  for (std::size_t k = labels.size(); k-- > 1;) labels[k - 1].at = std::max(labels[k - 1].at, labels[k].at + apart);
  return labels;
}

}  // namespace antcrew::internal
