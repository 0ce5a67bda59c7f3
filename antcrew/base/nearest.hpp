// Which of the known words somebody meant who wrote another one.
#pragma once

#include <string>
#include <vector>

#include "antcrew/base/layer.hpp"

namespace antcrew::base_layer {

// The one that takes the fewest letters inserted, left out, exchanged or swapped (Damerau 1964, "A technique for
// computer detection and correction of spelling errors"), or that begins like it; empty where none is near.
std::string nearest_word(const std::vector<std::string>& known, const std::string& wrong);

}  // namespace antcrew::base_layer
