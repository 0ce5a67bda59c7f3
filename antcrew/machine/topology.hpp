// How the processors of this machine lie: cores, caches, memory nodes; and in which order to pin workers to them.
//
// Any thread may call these. The first call asks the system and takes some milliseconds; later ones are free.
#pragma once

#include <cstdint>
#include <vector>

namespace antcrew {

struct Cache {
  int level = 0;
  std::uint64_t bytes = 0;  // 0 = unknown
  int count = 0;            // how many of these there are
  int line_bytes = 0;       // 0 = unknown
};

struct Topology {
  int logical_processors = 1;  // hardware threads that are online
  int physical_cores = 1;
  int packages = 1;
  int numa_nodes = 1;
  std::vector<Cache> caches;  // data and unified caches, nearest first
};

const Topology& topology();

// Kernel numbers of the processors this process may run on. spread: far apart first (packages, caches, cores before
// the second thread of a core). close: neighbours first.
enum class Nearness { spread, close };
std::vector<int> processor_order(Nearness nearness);

}  // namespace antcrew
