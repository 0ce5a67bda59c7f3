// What moving data to and from worker processes cost, as a crew of processes counts it.
#pragma once

#include <cstdint>
#include <vector>

namespace antcrew {

struct MovedData {
  struct Side {
    std::uint64_t bytes = 0;
    double seconds = 0;
  };

  std::vector<Side> workers;  // what each sent, or had to read; its seconds include waiting for the parent to take it
  Side parent;                // what it took in, or sent out
  std::int64_t forks = 0;
  double fork_s = 0;  // the parent, in the forks themselves
  // A fork makes every page of the parent shared; writing to one again afterwards costs it a page fault. Such faults
  // since the forks, up to the next call or to now, and their time at what one costs on this machine. At most: the
  // kernel counts them for all processes together. 0 for a parent of less than 4 MiB, where they cannot cost much.
  std::int64_t faults_after_fork = 0;
  double after_fork_s = 0;
};

}  // namespace antcrew
