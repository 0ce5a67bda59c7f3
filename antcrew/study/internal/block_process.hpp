// The process that holds the input of one point and forks the stands from it.
//
// It serves its coordinator one request at a time: "stand K" (fork the stand of cell K), "end PID…" (end those stands
// and everything below them, and say how the last one ended), "finish PID" (end it and say nothing), "crowd P" (run P
// copies of the baseline at once).
#pragma once

#include <vector>

#include "antcrew/study/channel.hpp"
#include "antcrew/study/host.hpp"
#include "antcrew/study/local_host.hpp"

namespace antcrew::internal {

struct BlockOrder {
  const StudyBase& study;
  Point at;
  std::vector<CellSpec> cells;
  HostLimits limits;
  StandBoard* boards;  // shared with the coordinator: one a cell, and one more for this process
  bool own_inputs;     // stands make their own
  int prints;          // descriptor that standard output and error go to; -1 = standard error, as it is
};

// In the forked process; does not return. Ends when the coordinator does, taking everything below along.
[[noreturn]] void serve_block(Channel coordinator, const BlockOrder& order);

}  // namespace antcrew::internal
