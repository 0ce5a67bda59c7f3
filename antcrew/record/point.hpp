// One place of a study's grid that an input is made for: a size, and a value of each further dimension. Pinning is one
// such dimension, in which the baseline takes part.
//
//   Readings make(const StudyPoint& at) { return make_readings(at.size, at["distinct"]); }
#pragma once

#include <cstddef>
#include <map>
#include <string>

#include "antcrew/base/layers.hpp"
#include "antcrew/crew/crew_options.hpp"

namespace antcrew::record_layer {

struct Point {
  std::size_t size = 0;
  std::map<std::string, std::size_t> dimensions = {};
  Pin pin = Pin::off;
  std::size_t base_size = 0;  // weak scaling: the size that was grown with the workers; 0 = not grown
  int grown_for = 0;          // for this worker count

  // The value of a further dimension. Throws Error (study.dimension) when the study has none of that name.
  std::size_t operator[](const std::string& dimension) const;

  friend bool operator==(const Point&, const Point&) = default;
};

}  // namespace antcrew::record_layer

namespace antcrew {

// What an input maker with further dimensions takes.
using StudyPoint = record_layer::Point;

}  // namespace antcrew
