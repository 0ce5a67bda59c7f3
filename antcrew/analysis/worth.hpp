// From which size on, and with how many workers, one variant pays: what a program that knows its size should do.
//
// Pure; any thread may call it.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/layer.hpp"
#include "antcrew/analysis/sizes.hpp"

namespace antcrew::analysis_layer {

struct Worth {
  struct Step {
    std::size_t from_size = 0;
    int workers = 1;  // 1 = the sequential version
  };
  const CellFigures* of = nullptr;  // the variant, at the largest size
  std::vector<Step> steps;          // ascending; none: the sequential version at every size tried
  // What pays where fewer processors can be used than the steps have workers: for each smaller count that was measured.
  struct Limited {
    int most = 1;  // workers
    std::vector<Step> steps;
  };
  std::vector<Limited> with_fewer;  // ascending
  // From where on it is faster, with the workers of the last step. None: nowhere, or it cannot be told.
  std::optional<Crossover> crossover;
  std::size_t smallest = 0;  // sizes that were tried
  std::size_t largest = 0;
  // Worker counts that are no advice, since the variant is faulty with them at some size; each with such a cell.
  std::vector<const CellFigures*> faulty;
  int unsure = 0;  // sizes at which the interval of what is advised, or of what seems better, leaves it open
  double most_regret =
      1;  // at the sizes tried: its time over the better one's of sequential and the best count, at most
};

// Of the variant of that name, or name (crew), at the dimensions of the headline's point; empty = the headline's
// leader. Times are the baseline's over the ratios of the same rounds. A step rests on sizes at which its interval
// leaves 1 out; between two of them times are taken as linear, as they are for a fixed cost and a cost an item. Below
// the smallest size that was tried the sequential version is chosen. More workers are chosen where they save 2 %. None
// where nothing holds.
std::optional<Worth> worth_of(const Analysed& study, const std::string& variant = {});

}  // namespace antcrew::analysis_layer
