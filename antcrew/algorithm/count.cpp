#include "antcrew/algorithm/count.hpp"

#include <string>

namespace antcrew::internal {

void refuse_bin(std::size_t item, std::size_t bins) {
  bad_input("algorithm.bin", "histogram", "item " + std::to_string(item) + " has no bin of the " + std::to_string(bins),
            "give numbers from 0 to " + std::to_string(bins == 0 ? 0 : bins - 1) + ", or more bins");
}

}  // namespace antcrew::internal
