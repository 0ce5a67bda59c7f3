#include "antcrew/analysis/taken_processors.hpp"

#include <algorithm>

namespace antcrew::analysis_layer {
namespace {

struct Taken {
  double by_programs = 0;  // processors, on average
  double by_system = 0;    // a hypervisor, a quota
};

Taken taken(const Record& record) {
  double wall_s = 0;
  Taken all;
  for (const BlockFacts& block : record.blocks) {
    wall_s += block.wall_s;
    all.by_programs += block.other_cpu_s;
    all.by_system += block.steal_s + block.throttled_s;
  }
  if (!(wall_s > 0)) return {};
  all.by_programs /= wall_s;
  all.by_system /= wall_s;
  return all;
}

}  // namespace

double taken_processors(const Record& record, const Cell& cell) {
  const Taken all = taken(record);
  const double processors = record.machine.usable_processors();
  const double wanted = std::min<double>(cell.workers, processors);
  return all.by_system + std::max(0.0, wanted + all.by_programs - processors);
}

double free_processors(const Record& record) {
  const Taken all = taken(record);
  return std::max(0.0, record.machine.usable_processors() - all.by_programs - all.by_system);
}

}  // namespace antcrew::analysis_layer
