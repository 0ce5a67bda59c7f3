// Figures of several runs: two side by side, and one cell over the time.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "antcrew/report/figure.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

// What people call the two; where both have the same name, or none, their dates stand in its place.
struct SideNames {
  std::string before = {};
  std::string after = {};
};

// Speedups over workers before and after, or on two machines: a panel each, with the same axes, and the same colour for
// the same variant. None when one of the two has no such figure.
std::optional<Figure> side_by_side_figure(const Analysed& before, const Analysed& after, const SideNames& names = {});

// The speedup of one cell in run after run, oldest first: of the newest run's leader, or, where a variant is named, of
// its fastest cell at the size of the headline. None when fewer than two runs have this cell with figures.
std::optional<Figure> history_figure(const std::vector<const Analysed*>& runs, const std::string& variant = {});

}  // namespace antcrew::report_layer
