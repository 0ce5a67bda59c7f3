// Sums of metered calls made by hand, and a record of one variant that was called so.
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "antcrew/analysis/findings.hpp"
#include "support/records.hpp"

namespace test {

using namespace antcrew;
using namespace antcrew::layers;

// Four workers and ten seconds: the parts in worker-seconds, the rest running.
inline LaneSums sums_with(std::vector<std::pair<LaneState, double>> parts, int lanes = 4, double wall_s = 10) {
  LaneSums sums;
  sums.wall_s = wall_s;
  sums.lanes = lanes;
  double left = lanes * wall_s;
  for (const auto& [state, seconds] : parts) {
    sums.parts_s[state] = seconds;
    left -= seconds;
  }
  sums.parts_s[LaneState::running] += left;
  sums.serial_cpu_s = sums.parts_s[LaneState::serial];
  sums.cpu_frames_s = sums.cpu_tree_s = left + sums.serial_cpu_s;
  sums.slowdown = 0.01;
  return sums;
}

inline Record record_with(std::vector<LaneSums> metered, double variant_s = 10, double baseline_s = 28,
                          int workers = 4) {
  const std::vector<double> even(8, 1.0);
  const auto times = [&](double each) { return std::vector<double>(8, each); };
  auto baseline = cell_with("baseline", 1, times(baseline_s));
  auto variant = cell_with("planted", workers, times(variant_s));
  variant.metered = std::move(metered);
  return record_of({baseline, variant});
}

inline std::vector<std::string> ids(const std::vector<Finding>& findings, Finding::Kind kind) {
  std::vector<std::string> all;
  for (const Finding& f : findings) {
    if (f.kind == kind) all.push_back(f.id);
  }
  return all;
}

}  // namespace test
