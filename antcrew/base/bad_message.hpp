// A message between two processes that cannot be read: unknown, cut short, damaged, longer than its fields, or larger
// than a message can be. what() says which, and where.
#pragma once

#include <stdexcept>

namespace antcrew::internal {

class BadMessage : public std::runtime_error {
  using std::runtime_error::runtime_error;
};

}  // namespace antcrew::internal
