#include "antcrew/analysis/noise_notes.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace antcrew {
namespace {

// Of one processor's time; below these nobody would notice.
constexpr double noticeable_load = 0.05;
constexpr double noticeable_steal = 0.01;

void warn_of_build(const Record& record, std::vector<std::string>& warnings) {
  if (!record.build.optimised) {
    warnings.push_back("the study program was built without optimisation: these times say nothing about a real build");
  } else if (!record.build.library_optimised) {
    warnings.push_back("Ant Crew itself was built without optimisation: the crews are slower than they should be");
  }
}

void warn_of_crowding(const Record& record, std::vector<std::string>& warnings) {
  const int processors = record.machine.usable_processors();
  const bool crowded = std::any_of(record.cells.begin(), record.cells.end(),
                                   [&](const Cell& cell) { return cell.workers > processors; });
  if (crowded) {
    warnings.push_back(
        fmt::format("some cells have more workers than the {} usable processor{}: their workers take turns, "
                    "which pays only for work that waits",
                    processors, processors == 1 ? "" : "s"));
  }
}

void warn_of_pinning(const Record& record, std::vector<std::string>& warnings) {
  for (const Cell& cell : record.cells) {
    if (cell.asked_processors != cell.granted_processors) {
      warnings.push_back(fmt::format("'{}' with {} workers: the system did not pin every worker as asked", cell.variant,
                                     cell.workers));
    }
  }
}

// Share of their wall time that the trials' threads were runnable but not running.
double waiting_to_run(const Record& record) {
  double waited = 0;
  double wall = 0;
  for (const Cell& cell : record.cells) {
    for (const Trial& trial : cell.trials) {
      waited += trial.run_delay_s * static_cast<double>(trial.calls);
      wall += trial.wall_s * static_cast<double>(trial.calls);
    }
  }
  return wall > 0 ? waited / wall : 0;
}

std::string effect_on_intervals(const Analysed& study) {
  double widest = 0;
  int wide = 0;
  int all = 0;
  for (const CellFigures& f : study.cells) {
    if (f.cell->kind != Cell::Kind::variant || !f.speedup || !f.speedup->claimed) continue;
    ++all;
    widest = std::max(widest, f.speedup->relative_half_width());
    wide += f.speedup->relative_half_width() > study.record->plan.width ? 1 : 0;
  }
  if (all == 0) return "no interval can be claimed";
  if (wide == 0) return fmt::format("all intervals are within ±{:.0f} % nevertheless", study.record->plan.width * 100);
  return fmt::format("{} of {} intervals are wider than ±{:.0f} %, the widest ±{:.0f} %", wide, all,
                     study.record->plan.width * 100, widest * 100);
}

void warn_of_noise(const Analysed& study, std::vector<std::string>& warnings) {
  const Record& record = study.record[0];
  double wall = 0, other = 0, steal = 0, throttled = 0;
  for (const BlockFacts& block : record.blocks) {
    wall += block.wall_s;
    other += block.other_cpu_s;
    steal += block.steal_s;
    throttled += block.throttled_s;
  }
  if (wall <= 0) return;
  std::vector<std::string> causes;
  if (other / wall > noticeable_load)
    causes.push_back(fmt::format("other programs kept {:.2f} processors busy", other / wall));
  if (record.load_before > noticeable_load)
    causes.push_back(fmt::format("{:.2f} processors were busy before it began", record.load_before));
  if (steal / wall > noticeable_steal)
    causes.push_back(fmt::format("the hypervisor took {:.1f} % of one processor", steal / wall * 100));
  if (throttled > 0.001 * wall) causes.push_back(fmt::format("the CPU quota held it back for {:.1f} s", throttled));
  const double delay = waiting_to_run(record);
  if (!causes.empty() && delay > noticeable_load)
    causes.push_back(fmt::format("threads waited to run for {:.0f} % of the timed wall time", delay * 100));
  if (causes.empty()) return;
  warnings.push_back(
      fmt::format("the machine was not quiet: {}; {}", fmt::join(causes, ", "), effect_on_intervals(study)));
}

}  // namespace

std::vector<std::string> warnings_of(const Analysed& study) {
  std::vector<std::string> warnings;
  warn_of_build(*study.record, warnings);
  warn_of_noise(study, warnings);
  warn_of_crowding(*study.record, warnings);
  warn_of_pinning(*study.record, warnings);
  if (!study.record->complete) warnings.push_back("the run was ended early: this is what was measured until then");
  return warnings;
}

}  // namespace antcrew
