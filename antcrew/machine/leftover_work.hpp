// Looks whether work goes on after a call has returned: threads or processes that the call began and that end by
// themselves later, or other threads that keep on using CPU time.
//
//   LeftoverWork watch;              // before the call
//   call();
//   Leftover left = watch.look(0.05);
//
// Not thread-safe; used by the thread that makes the call.
#pragma once

#include <sys/types.h>

#include <vector>

#include "antcrew/machine/layer.hpp"
#include "antcrew/machine/usage.hpp"

namespace antcrew::machine_layer {

struct Leftover {
  double went_on_s = 0;   // from the return until the last sign of work
  double cpu_s = 0;       // used after the return by others than the caller
  int threads_ended = 0;  // begun during the call, ended after its return
  int processes_ended = 0;
  bool still_running = false;  // patience ran out while work went on
  int threads_begun = 0;       // during the call, and still there when the look ended
  int processes_begun = 0;

  // Threads or processes that the call began went on and then ended: unmistakably its own work.
  bool certain() const noexcept { return threads_ended > 0 || processes_ended > 0; }
};

class LeftoverWork {
 public:
  LeftoverWork();
  // Call right after the return. Waits until all is quiet, at most `patience_s`; 0.1 ms when nothing is left.
  Leftover look(double patience_s) const;

 private:
  int threads_;
  std::vector<pid_t> processes_;
};

}  // namespace antcrew::machine_layer
