// A point of the grid in the words of messages.
#pragma once

#include <string>

#include "antcrew/record/forward.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

// As in "size 2000, tide spring"; of a point that has neither a size nor dimensions, "the only point".
std::string point_text(const Point& point);

}  // namespace antcrew::internal
