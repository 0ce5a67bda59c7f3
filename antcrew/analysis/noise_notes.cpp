#include "antcrew/analysis/noise_notes.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"

namespace antcrew::analysis_layer {
namespace {

// Of one processor's time; below these nobody would notice.
constexpr double noticeable_load = 0.05;
constexpr double noticeable_steal = 0.01;

void warn_of_build(const Record& record, std::vector<std::string>& warnings) {
  if (!record.build.sanitizers.empty()) {
    warnings.push_back("the study program was built with a sanitizer (" + record.build.sanitizers +
                       "): these times say nothing about a real build");
  }
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

// Two hardware threads of a core share its units.
void warn_of_siblings(const Record& record, std::vector<std::string>& warnings) {
  const int cores = record.machine.topology.physical_cores;
  const int processors = record.machine.usable_processors();
  const bool shared = std::any_of(record.cells.begin(), record.cells.end(), [&](const Cell& cell) {
    return cores > 0 && cell.workers > cores && cell.workers <= processors;
  });
  if (!shared) return;
  warnings.push_back(fmt::format(
      "some cells have more workers than the {} physical core{}: two that share a core share its units, and bring less "
      "than two",
      cores, cores == 1 ? "" : "s"));
}

void warn_of_settings(const Record& record, std::vector<std::string>& warnings) {
  if (record.machine.settings.governor == "powersave") {
    warnings.push_back(
        "the frequency governor is 'powersave': short calls may run before the processor has sped up, and load on one "
        "processor may slow another");
  }
}

// Then part of the gain has another cause than the workers.
void warn_of_one_worker(const Analysed& study, std::vector<std::string>& warnings) {
  constexpr double told = 1.05;
  const CellFigures* leader = study.conclusion.leader;
  if (leader == nullptr || leader->cell->workers < 2) return;
  for (const CellFigures& f : study.cells) {
    const bool its = f.cell->key() == leader->cell->key() && f.cell->attempt == leader->cell->attempt &&
                     f.cell->point == leader->cell->point && f.cell->workers == 1;
    if (!its || f.verdict != Verdict::holds || !f.speedup || !f.speedup->claimed || f.speedup->low < told) continue;
    warnings.push_back(fmt::format(
        "'{}' ({}) beats the baseline with one worker already, {:.2f} times: that part of its gain is not parallelism, "
        "and the baseline could have it too",
        f.cell->variant, f.cell->crew, f.speedup->median));
  }
}

void warn_of_prints(const Record& record, std::vector<std::string>& warnings) {
  for (const Cell& cell : record.cells) {
    double bytes = 0;
    for (const Trial& trial : cell.trials) bytes = std::max(bytes, trial.printed_bytes.value_or(0));
    if (bytes <= 0) continue;
    const std::string first = cell.printed.empty() ? std::string() : cell.printed.front();
    warnings.push_back(
        fmt::format("'{}' with {} worker{} at size {} prints inside the clock, {} a call, and its time has that in it; "
                    "kept aside, it "
                    "begins \"{}\" (--let-print shows it)",
                    cell.variant, cell.workers, cell.workers == 1 ? "" : "s", record.points[cell.point].size,
                    bytes_text(static_cast<std::uint64_t>(std::ceil(bytes))), printable(first, 60)));
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
      waited += trial.run_delay_s.value_or(0) * static_cast<double>(trial.calls);
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
  if (record.another_study) causes.push_back("another study was measured on this machine at the same time");
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

// The quota lets work run fast for a part of each period and not at all for the rest.
void warn_of_quota(const Record& record, std::vector<std::string>& warnings) {
  std::size_t held = 0;
  std::size_t all = 0;
  for (const Cell& cell : record.cells) {
    for (const Trial& trial : cell.trials) {
      ++all;
      held += trial.throttled_s.value_or(0) > 0 ? 1 : 0;
    }
  }
  if (held == 0) return;
  warnings.push_back(fmt::format(
      "the CPU quota of {:.2f} processors held back {} of {} trials; batches lasted several of its periods, so these "
      "are the times that last",
      record.machine.limits.quota_cpus.value_or(0), held, all));
}

void warn_of_own_noise(const Record& record, std::vector<std::string>& warnings) {
  double wall = 0;
  double own = 0;
  for (const BlockFacts& block : record.blocks) {
    wall += block.wall_s;
    own += block.neighbours_cpu_s;
  }
  if (wall > 0 && own > 0.02 * wall) {
    warnings.push_back(fmt::format(
        "noise of the study's own making: processes of it that were not on trial kept {:.2f} processors busy",
        own / wall));
  }
}

// Workers that share a processor while another is idle wait for each other; the figures show what that costs.
void warn_of_sharing(const Record& record, std::vector<std::string>& warnings) {
  constexpr double told = 0.05;
  for (const Cell& cell : record.cells) {
    if (cell.workers < 2 || cell.workers > record.machine.usable_processors()) continue;
    const auto shared = static_cast<std::size_t>(std::count_if(
        cell.trials.begin(), cell.trials.end(), [](const Trial& trial) { return trial.shared_a_processor(); }));
    if (static_cast<double>(shared) < told * static_cast<double>(cell.trials.size()) || shared == 0) continue;
    warnings.push_back(fmt::format(
        "'{}' ({}) with {} workers at size {}: in {} of {} trials two of them were on one processor while another was "
        "free; these are among its figures",
        cell.variant, cell.crew, cell.workers, record.points[cell.point].size, shared, cell.trials.size()));
  }
}

// On which kind the baseline ran: speedups are over that one.
std::string baseline_kinds(const Record& record) {
  std::map<int, int> trials;
  for (const Cell& cell : record.cells) {
    if (cell.kind != Cell::Kind::baseline) continue;
    for (const Trial& trial : cell.trials) {
      for (const ProcessorKind& kind : record.machine.topology.kinds) {
        const bool on =
            trial.processor && std::count(kind.processors.begin(), kind.processors.end(), *trial.processor) > 0;
        if (on) ++trials[kind.speed];
      }
    }
  }
  std::string text;
  for (const auto& [speed, count] : trials)
    text += fmt::format("{}{} on rank {}", text.empty() ? "; the baseline ran " : ", ", count, speed);
  return text.empty() ? text : text + " (trials)";
}

void warn_of_machine(const Analysed& study, std::vector<std::string>& warnings) {
  const Record& record = *study.record;
  for (const TwoSpeeds& two : study.two_speeds) {
    warnings.push_back(fmt::format(
        "a machine of two speeds: the baseline at size {} took about {} in {} trials and about {} in {}; ratios pair "
        "neighbours in time, but look for what comes and goes",
        record.points[two.point].size, duration_text(two.fast_s), two.fast, duration_text(two.slow_s), two.slow));
  }
  if (record.machine.topology.kinds.size() > 1) {
    std::string kinds;
    for (const ProcessorKind& kind : record.machine.topology.kinds)
      kinds += fmt::format("{}{} of rank {}", kinds.empty() ? "" : ", ", kind.processors.size(), kind.speed);
    warnings.push_back(fmt::format("processors of different kinds ({}): more workers may mean slower ones{}", kinds,
                                   baseline_kinds(record)));
  }
  if (record.dropped_asleep + record.dropped_paused > 0) {
    warnings.push_back(fmt::format("{} trials were dropped: the machine slept during {}, the run was stopped during {}",
                                   record.dropped_asleep + record.dropped_paused, record.dropped_asleep,
                                   record.dropped_paused));
  }
}

// Rare long calls are in the mean and not in the median.
void warn_of_means(const Analysed& study, std::vector<std::string>& warnings) {
  constexpr double told = 0.05;
  for (const CellFigures& f : study.cells) {
    if (f.verdict != Verdict::holds || f.cell->kind != Cell::Kind::variant || !f.speedup || !f.speedup_by_means)
      continue;
    const double ratio = *f.speedup_by_means / f.speedup->median;
    if (ratio < 1 + told && ratio > 1 / (1 + told)) continue;
    warnings.push_back(fmt::format(
        "'{}' ({}) with {} workers at size {}: by the mean of its calls the speedup is {:.2f}, by their median {:.2f}: "
        "now and then a call takes much longer",
        f.cell->variant, f.cell->crew, f.cell->workers, study.record->points[f.cell->point].size, *f.speedup_by_means,
        f.speedup->median));
  }
}

}  // namespace

std::vector<std::string> warnings_of(const Analysed& study) {
  std::vector<std::string> warnings;
  warn_of_build(*study.record, warnings);
  warn_of_noise(study, warnings);
  warn_of_crowding(*study.record, warnings);
  warn_of_siblings(*study.record, warnings);
  warn_of_settings(*study.record, warnings);
  warn_of_one_worker(study, warnings);
  warn_of_prints(*study.record, warnings);
  warn_of_pinning(*study.record, warnings);
  warn_of_quota(*study.record, warnings);
  warn_of_own_noise(*study.record, warnings);
  warn_of_sharing(*study.record, warnings);
  warn_of_machine(study, warnings);
  warn_of_means(study, warnings);
  if (!study.record->complete) warnings.push_back("the run was ended early: this is what was measured until then");
  return warnings;
}

}  // namespace antcrew::analysis_layer
