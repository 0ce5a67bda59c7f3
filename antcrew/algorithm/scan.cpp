#include "antcrew/algorithm/scan.hpp"

#include <string>

#include "antcrew/base/error.hpp"

namespace antcrew::internal {

void refuse_short_output(const char* call, std::size_t in, std::size_t out) {
  bad_input("scan.output", call,
            "the output has room for " + std::to_string(out) + " items, and there are " + std::to_string(in),
            "give an output that is as long as the input");
}

}  // namespace antcrew::internal
