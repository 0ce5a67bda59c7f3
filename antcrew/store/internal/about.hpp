// What the index keeps of a stored run, read from its record.
#pragma once

#include <cstdint>
#include <set>
#include <string>
#include <utility>

#include "antcrew/store/index.hpp"
#include "antcrew/store/layer.hpp"

namespace antcrew::internal {

struct Looked {
  store_layer::StoredRun stored;
  std::int64_t record = 0;  // its state
  std::int64_t notes = 0;
  std::uint64_t bytes = 0;
};

// What a record says of itself, or why it cannot be read.
struct About {
  store_layer::ListedRun run;
  std::int64_t state = 0;                               // of the file that was read, or of one before it
  std::set<std::pair<std::string, std::string>> cells;  // variant, verdict
};

// Reads the record. Any thread may call it.
About about(const Looked& looked);

}  // namespace antcrew::internal
