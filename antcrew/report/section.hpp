// Lines under a heading: what notes and projections are made of, before a form lays them out.
#pragma once

#include <string>
#include <vector>

#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

struct Section {
  std::string heading;  // without a colon; empty where the lines speak for themselves
  std::string text;     // lines, each with its end; empty: there is nothing to say
};

// In plain text: a blank line before each that says something.
std::string text_of(const std::vector<Section>& sections);

}  // namespace antcrew::report_layer
