// In which order the points of a study are explored, and which size lies beside a point's.
#pragma once

#include <cstddef>
#include <vector>

#include "antcrew/record/forward.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

// A visit to a point: for its least number of rounds, or for all that there is time for.
struct Turn {
  std::size_t point;
  bool least;
};

// Under a budget every point gets its least rounds before any gets more, small sizes first: an expensive one does not
// push out cheap ones. The headline's point comes last of these and goes straight on; the others come again.
std::vector<Turn> turns_of(const Record& record, bool least_first);

// The next smaller size of the study with all else equal, else one eighth less.
std::size_t smaller_size(const Record& record, std::size_t point);

}  // namespace antcrew::internal
