// How the processors of this machine lie: cores, caches, memory nodes; and in which order to pin workers to them.
//
// Any thread may call these. The first call asks the system and takes some milliseconds; later ones are free.
#pragma once

#include <cstdint>
#include <vector>

#include "antcrew/machine/layer.hpp"

namespace antcrew::machine_layer {

struct Cache {
  int level = 0;
  std::uint64_t bytes = 0;  // 0 = unknown
  int count = 0;            // how many of these there are
  int line_bytes = 0;       // 0 = unknown
};

// Processors that differ from others of the same machine.
struct ProcessorKind {
  int speed = 0;  // a rank: the slowest kind has 0
  std::vector<int> processors = {};

  friend bool operator==(const ProcessorKind&, const ProcessorKind&) = default;
};

struct Topology {
  int logical_processors = 1;  // hardware threads that are online
  int physical_cores = 1;
  int packages = 1;
  int numa_nodes = 1;
  std::vector<Cache> caches;              // data and unified caches, nearest first
  std::vector<ProcessorKind> kinds = {};  // slowest first; empty where all are alike, or nothing is known
};

const Topology& topology();

// Kernel numbers of the processors this process may run on. apart: far from each other first (packages, caches, cores
// before the second thread of a core). near: neighbours first.
enum class Nearness { apart, near };
std::vector<int> processor_order(Nearness nearness);

// Processors that share a last-level cache, or a memory node where that is less, have the same number, from 0 on;
// 0 for one that is unknown.
int neighbourhood_of(int processor);
int neighbourhoods();

}  // namespace antcrew::machine_layer
