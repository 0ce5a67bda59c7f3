// Names at the ends of lines, where no legend need be decoded.
#pragma once

#include <string>
#include <vector>

#include "antcrew/report/figure.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

struct EndLabel {
  std::string text;
  int colour = -1;
  double at = 0;           // where the line ends: 0 = bottom of the panel, 1 = top
  bool reference = false;  // of a line to read against, not of a variant
};

// Place of a value on an axis: 0 … 1, beyond where it lies outside.
double share_on(const Axis& axis, double value);
// The value at such a place.
double value_at(const Axis& axis, double share);

// Of the lines of a panel and its reference lines, from the top down. Who draws them moves apart what lies too near.
std::vector<EndLabel> end_labels(const Panel& panel);

}  // namespace antcrew::internal
