// What a jostle found, for people.
#pragma once

#include <string>

#include "antcrew/study/jostle.hpp"

namespace antcrew {

std::string jostle_text(const JostleReport& report, std::size_t width);

}  // namespace antcrew
