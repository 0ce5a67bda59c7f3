// This machine, for people.
#pragma once

#include <string>

#include "antcrew/machine/machine.hpp"

namespace antcrew {

std::string machine_text(const Machine& machine);

}  // namespace antcrew
