// Names of what records are made of, for headers that only pass them on: record.hpp is read by few, and so may change.
#pragma once

#include "antcrew/record/layer.hpp"

namespace antcrew::json {
class Value;
}

namespace antcrew::record_layer {

struct BlockFacts;
struct BuildFacts;
struct Cell;
struct Fault;
struct Point;
struct Record;
struct RecordStep;
struct Trial;

}  // namespace antcrew::record_layer
