// A search in the words of the index's query language.
#pragma once

#include <string>
#include <vector>

#include "antcrew/store/index.hpp"
#include "antcrew/store/layer.hpp"

namespace antcrew::internal {

// The conditions, and the texts that belong to their question marks. The table of runs is called r.
struct Asked {
  std::string where;
  std::vector<std::string> texts;
};

Asked asked(const Search& search);

}  // namespace antcrew::internal
