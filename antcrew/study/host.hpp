// Where the cells of a block live and are tried. The run loop decides what is tried when; a host does it.
#pragma once

#include <optional>
#include <vector>

#include "antcrew/study/study_base.hpp"
#include "antcrew/study/visit.hpp"

namespace antcrew {

struct CellSpec {
  const VariantDefinition* variant = nullptr;  // none = the baseline
  int workers = 1;
};

class Host {
 public:
  virtual ~Host() = default;

  // Makes the input and the reference answer of a point. A fault means that nothing of this block can be tried.
  virtual std::optional<Fault> open(const Point& at, const std::vector<CellSpec>& cells) = 0;

  // Tries cells[cell] once.
  virtual Visit visit(std::size_t cell, int round) = 0;

  // Ends the block and everything it started.
  virtual void close() = 0;
};

}  // namespace antcrew
