#include "antcrew/analysis/taken_processors.hpp"

#include <algorithm>
#include <optional>

#include "antcrew/analysis/verdict.hpp"

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
  double lacking = std::max(0.0, wanted + all.by_programs - processors);
  // Programs of a lower priority take nothing: then its own threads hardly waited.
  if (const auto waited = median_where_known(cell, [](const Trial& t) -> std::optional<double> {
        return t.run_delay_s && t.wall_s > 0 ? std::optional(*t.run_delay_s / t.wall_s) : std::nullopt;
      }))
    lacking = std::min(lacking, *waited);
  return all.by_system + lacking;
}

double free_processors(const Record& record) {
  const Taken all = taken(record);
  return std::max(0.0, record.machine.usable_processors() - all.by_programs - all.by_system);
}

}  // namespace antcrew::analysis_layer
