// Names at the ends of lines, where no legend need be decoded: moved apart so that none lies on another.
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
  double at = 0;  // height in the panel: 0 = bottom, 1 = top
};

// Place of a value on an axis: 0 … 1, beyond where it lies outside.
double share_on(const Axis& axis, double value);

// Of the lines of a panel and its reference lines, from the top down; `apart` is the least distance.
std::vector<EndLabel> end_labels(const Panel& panel, double apart);

}  // namespace antcrew::internal
