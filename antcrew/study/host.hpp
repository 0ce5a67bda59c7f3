// Where the cells of a block live and are tried. The run loop decides what is tried when; a host does it.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/study/layer.hpp"
#include "antcrew/study/visit.hpp"

namespace antcrew::study_layer {

struct HostLimits {
  double call_s = 0;                // longest call; 0 = as of_call() says
  std::uint64_t memory_bytes = 0;   // that a cell process may take beyond what it begins with; 0 = 90 % of what is free
  std::function<bool()> stop = {};  // asked while waiting; true ends the run
  bool let_print = false;           // what user code prints goes to standard error
  double budget_s = 0;              // of the whole study; 0 = none
  std::string launcher = {};        // see Plan

  // Thirty times what the baseline takes, as long as that is no more than a twentieth of the budget: hangs are not to
  // use up what the others need. Three times the baseline, and three seconds, in any case.
  double of_call(double reference_s) const noexcept;
  // Where that comes from.
  std::string of_call_in_words(double reference_s) const;
};

// Thrown out of a host's call when `stop` said so.
struct Stopped {};

// Thrown out of a host's call when what holds the input of the block is gone: nothing more can be tried in it.
struct BlockLost {
  Fault fault;
};

class Host {
 public:
  virtual ~Host() = default;

  // Makes the input and the reference answer of a point. A fault means that nothing of this block can be tried, but
  // for `threads_left`, which is a remark.
  virtual std::optional<Fault> open(const Point& at, const std::vector<CellSpec>& cells, BlockFacts& facts) = 0;

  // Tries cells[cell] once. A cell process that is not to be kept is gone afterwards; one that is, is stopped until its
  // turn.
  virtual Visit visit(std::size_t cell, const VisitOrder& order) = 0;

  // Tries cells[cell] with another input, and the baseline on the cell's own: facts, and faults where something is
  // wrong. Not timed. A host that has no way to do it leaves the facts out.
  virtual Visit check(std::size_t, std::size_t /*other_size*/) { return {}; }

  // Calls cells[cell] so many times with a log of what its workers do: LaneSums, in a cell process of its own that is
  // gone afterwards. Not timed. A host that has no way to do it leaves them out.
  virtual Visit meter(std::size_t, int /*calls*/, bool /*one_worker*/) { return {}; }

  // Ends all cell processes that were kept.
  virtual void renew() = 0;

  // The baseline's time when so many processes run it at once: the median copy. None where this cannot be tried, or
  // would not fit into memory.
  virtual std::optional<double> crowd(int copies) = 0;

  // What this machine does when so many workers do the same at once. Not timed. A host that has no way to do it leaves
  // it out.
  virtual std::optional<TogetherFacts> together(int /*workers*/) { return std::nullopt; }

  // CPU time of what it has run so far, where this process does not wait for that itself.
  virtual double own_cpu_s() const { return 0; }

  // No block is started anew any more: what went wrong in one that was, as the end of a sentence.
  virtual void fork_from_now_on(const std::string& /*trouble*/) {}

  // Ends the block and everything it started.
  virtual void close() = 0;
};

}  // namespace antcrew::study_layer
