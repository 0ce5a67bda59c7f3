// The process that holds the input of one point and forks the cell processes from it.
// It serves the run one request at a time: protocol.hpp has them.
#pragma once

#include <vector>

#include "antcrew/study/channel.hpp"
#include "antcrew/study/host.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/local_host.hpp"

namespace antcrew::internal {

struct InputOrder {
  const StudyBase& study;
  Point at;
  std::vector<CellSpec> cells;
  HostLimits limits;
  ProcessBoard* boards;  // shared with the coordinator: one a cell, and one more for this process
  bool own_inputs;       // cell processes make their own
  int prints;            // descriptor that standard output and error go to; -1 = standard error, as it is
};

// User code reads nothing from the terminal, and what it prints must not end up in the result.
void set_streams(int prints);

// In the forked process; does not return. Ends when the run does, taking everything below along.
[[noreturn]] void serve_input(Channel coordinator, const InputOrder& order);

}  // namespace antcrew::internal
