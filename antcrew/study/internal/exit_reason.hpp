// Why a cell process or a block is no more, in words.
#pragma once

#include <string>

#include "antcrew/study/layer.hpp"
#include "antcrew/study/visit.hpp"

namespace antcrew::internal {

// Processes that the whole machine ended for lack of memory, since it was started.
double oom_kills();

struct Ending {
  int status = 0;               // as waitpid() tells
  double oom_kills_before = 0;  // when it was begun
  std::string printed_last;     // its last line, if any
};
Fault exit_reason(const Ending& ending, const ProcessBoard& board, int round);

// limit_is: where the limit comes from, in words.
Fault timed_out(const ProcessBoard& board, double limit_s, const std::string& limit_is, int round);

}  // namespace antcrew::internal
