// What a run adds to its record, bit by bit: the run loop and the reader of an unfinished file apply the same steps.
#pragma once

#include <optional>

#include "antcrew/record/layer.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::record_layer {

struct VisitedCell {
  std::size_t cell = 0;  // index into Record::cells
  Cell seen = {};        // only what this visit brought
};

struct DroppedTrials {
  int asleep = 0;
  int paused = 0;
};

struct RecordStep {
  double measured_s = 0;  // of the whole record, so far
  std::optional<VisitedCell> visited = {};
  std::optional<BlockFacts> block = {};
  std::optional<CrowdFacts> crowd = {};  // its times are added
  std::optional<ConfirmationFacts> confirmation = {};
  std::optional<LeftOut> left_out = {};
  std::optional<DroppedTrials> dropped = {};
  std::optional<YardstickFacts> yardstick = {};  // its times are added
  std::optional<TogetherFacts> together = {};
  double waited_idle_s = 0;  // more
};

// False, and nothing is changed, when the step names a cell or point that the record has not.
bool apply(Record& record, RecordStep&& step);

}  // namespace antcrew::record_layer
