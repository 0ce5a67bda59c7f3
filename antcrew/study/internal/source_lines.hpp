// How many lines of source a variant takes.
#pragma once

#include <string>

#include "antcrew/record/record.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

// Lines that are neither empty nor only a comment (//, #, or between /* and */), from after the line with "[part]" to
// before the one with "[end of part]". Where they cannot be counted, 0 and why.
SourceFacts lines_of(const std::string& of, const std::string& file, const std::string& part);

}  // namespace antcrew::internal
