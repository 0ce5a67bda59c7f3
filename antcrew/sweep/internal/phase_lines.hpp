// Phases and counters that a program writes to the file named in ANTCREW_PHASES: one JSON object a line, appended by
// any of its processes.
//
//   {"phase": "merge", "s": 0.12}                                    so many seconds
//   {"phase": "merge", "begin": 17.2, "end": 17.32, "worker": 3}     of any clock, the same in all lines
//   {"counter": "nodes", "add": 1200}
//
// "worker" (a number or a text) tells workers apart, "host" machines. What is no such line is left out and counted.
#pragma once

#include <map>
#include <string>

#include "antcrew/record/record.hpp"
#include "antcrew/sweep/layer.hpp"

namespace antcrew::internal {

struct PhaseLines {
  std::map<std::string, PhaseFacts> phases;
  std::map<std::string, double> counters;
  std::map<std::string, double> quantities;
  int not_understood = 0;
  std::string first_trouble;  // the first such line, and what is wrong with it
};

// At most 16 MiB of the file, 200 phases, 200 counters and 4,096 workers; what is beyond counts as not understood.
PhaseLines read_phase_lines(const std::string& path);

}  // namespace antcrew::internal
