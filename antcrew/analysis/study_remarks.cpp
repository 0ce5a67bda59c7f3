#include "antcrew/analysis/study_remarks.hpp"
#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/rank_hosts.hpp"

#include <algorithm>
#include <cmath>
#include <map>

namespace antcrew::analysis_layer {
namespace {

// Of one processor's time; below these nobody would notice.
constexpr double noticeable_load = 0.05;
constexpr double noticeable_steal = 0.01;

class Remarks {
 public:
  Finding& add(const char* id, Figures figures = {}, const CellFigures* of = nullptr) {
    Finding& finding = found.emplace_back();
    finding.id = id;
    finding.of = of;
    finding.figures = std::move(figures);
    return finding;
  }
  std::vector<Finding> found;
};

double count_of(std::size_t count) {
  return static_cast<double>(count);
}

void remark_on_build(const Record& record, Remarks& remarks) {
  if (!record.build.sanitizers.empty()) {
    Finding& finding = remarks.add("sanitizer");
    finding.kind = Finding::Kind::meaning;
    finding.name = record.build.sanitizers;
  }
  if (record.commands) return;
  if (!record.build.optimised) {
    remarks.add("unoptimised").kind = Finding::Kind::meaning;
  } else if (!record.build.library_optimised) {
    remarks.add("unoptimised-library");
  }
}

void remark_on_crowding(const Record& record, Remarks& remarks) {
  const int processors = record.machine.usable_processors();
  const bool crowded = std::any_of(record.cells.begin(), record.cells.end(), [&](const Cell& cell) {
    return cell.workers > processors_of(record, cell) && (ranks_of(cell) != nullptr || cell.crew != "RankCrew");
  });
  if (crowded) remarks.add("more-workers-than-processors", {{"processors", processors}});
}

// Two hardware threads of a core share its units.
void remark_on_siblings(const Record& record, Remarks& remarks) {
  const int cores = record.machine.topology.physical_cores;
  const int processors = record.machine.usable_processors();
  const bool shared = std::any_of(record.cells.begin(), record.cells.end(), [&](const Cell& cell) {
    return cores > 0 && cell.workers > cores && cell.workers <= processors;
  });
  if (shared) remarks.add("shared-cores", {{"cores", cores}});
}

void remark_on_settings(const Record& record, Remarks& remarks) {
  if (record.machine.settings.governor == "powersave") remarks.add("slow-governor").name = "powersave";
}

// Some clocks of virtual machines go in steps of milliseconds.
void remark_on_clock(const Record& record, Remarks& remarks) {
  constexpr double told = 0.01;  // of what is timed in one go
  const double step_s = record.machine.clock.resolution_ns * 1e-9;
  double shortest_s = 0;
  for (const Cell& cell : record.cells) {
    for (const Trial& trial : cell.trials) {
      const double timed_s =
          trial.wall_s * count_of(trial.calls) / count_of(std::max<std::size_t>(1, trial.times_s.size()));
      if (shortest_s == 0 || timed_s < shortest_s) shortest_s = timed_s;
    }
  }
  if (shortest_s > 0 && step_s > told * shortest_s)
    remarks.add("coarse-clock", {{"step_s", step_s}, {"timed_s", shortest_s}});
}

void remark_on_prints(const Analysed& study, Remarks& remarks) {
  for (const CellFigures& f : study.cells) {
    double bytes = 0;
    for (const Trial& trial : f.cell->trials) bytes = std::max(bytes, trial.printed_bytes.value_or(0));
    if (bytes <= 0) continue;
    remarks.add("prints-in-the-clock", {{"bytes", std::ceil(bytes)}}, &f).name =
        f.cell->printed.empty() ? std::string() : f.cell->printed.front();
  }
}

void remark_on_pinning(const Analysed& study, Remarks& remarks) {
  for (const CellFigures& f : study.cells) {
    if (f.cell->asked_processors != f.cell->granted_processors) remarks.add("not-pinned", {}, &f);
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

void add_effect_on_intervals(const Analysed& study, Figures& figures) {
  double widest = 0;
  int wide = 0;
  int all = 0;
  for (const CellFigures& f : study.cells) {
    if (f.cell->kind != Cell::Kind::variant || !f.speedup || !f.speedup->claimed) continue;
    ++all;
    widest = std::max(widest, f.speedup->relative_half_width());
    wide += f.speedup->relative_half_width() > study.record->plan.width ? 1 : 0;
  }
  figures["intervals"] = all;
  figures["wide_intervals"] = wide;
  figures["widest"] = widest;
  figures["asked_width"] = study.record->plan.width;
}

void remark_on_noise(const Analysed& study, Remarks& remarks) {
  const Record& record = *study.record;
  double wall = 0, other = 0, steal = 0, throttled = 0;
  for (const BlockFacts& block : record.blocks) {
    wall += block.wall_s;
    other += block.other_cpu_s;
    steal += block.steal_s;
    throttled += block.throttled_s;
  }
  if (wall <= 0) return;
  Figures causes;
  if (other / wall > noticeable_load) causes["other_processors"] = other / wall;
  if (record.another_study) causes["another_study"] = 1;
  if (record.load_before > noticeable_load) causes["busy_before"] = record.load_before;
  if (steal / wall > noticeable_steal) causes["steal_share"] = steal / wall;
  if (throttled > 0.001 * wall) causes["throttled_s"] = throttled;
  const double delay = waiting_to_run(record);
  if (!causes.empty() && delay > noticeable_load) causes["waiting_share"] = delay;
  if (causes.empty()) return;
  add_effect_on_intervals(study, causes);
  remarks.add("noise", std::move(causes));
}

// The quota lets work run fast for a part of each period and not at all for the rest.
void remark_on_quota(const Record& record, Remarks& remarks) {
  std::size_t held = 0;
  std::size_t all = 0;
  for (const Cell& cell : record.cells) {
    for (const Trial& trial : cell.trials) {
      ++all;
      held += trial.throttled_s.value_or(0) > 0 ? 1 : 0;
    }
  }
  if (held == 0) return;
  remarks.add("throttled", {{"quota_processors", record.machine.limits.quota_cpus.value_or(0)},
                            {"held_trials", count_of(held)},
                            {"trials", count_of(all)}});
}

void remark_on_own_noise(const Record& record, Remarks& remarks) {
  double wall = 0;
  double own = 0;
  for (const BlockFacts& block : record.blocks) {
    wall += block.wall_s;
    own += block.neighbours_cpu_s;
  }
  if (wall > 0 && own > 0.02 * wall) remarks.add("own-noise", {{"processors", own / wall}});
}

// Workers that share a processor while another is idle wait for each other; the figures show what that costs.
void remark_on_sharing(const Analysed& study, Remarks& remarks) {
  constexpr double told = 0.05;
  for (const CellFigures& f : study.cells) {
    const Cell& cell = *f.cell;
    if (cell.workers < 2 || cell.workers > processors_of(*study.record, cell)) continue;
    const auto shared = static_cast<std::size_t>(std::count_if(
        cell.trials.begin(), cell.trials.end(), [](const Trial& trial) { return trial.shared_a_processor(); }));
    if (shared == 0 || count_of(shared) < told * count_of(cell.trials.size())) continue;
    remarks.add("took-turns", {{"shared_trials", count_of(shared)}, {"trials", count_of(cell.trials.size())}}, &f);
  }
}

void remark_on_two_speeds(const Analysed& study, Remarks& remarks) {
  for (const TwoSpeeds& two : study.two_speeds) {
    const auto baseline = std::find_if(study.cells.begin(), study.cells.end(), [&](const CellFigures& f) {
      return f.cell->kind == Cell::Kind::baseline && f.cell->point == two.point;
    });
    remarks.add("two-speeds",
                {{"fast_s", two.fast_s}, {"fast_trials", two.fast}, {"slow_s", two.slow_s}, {"slow_trials", two.slow}},
                baseline == study.cells.end() ? nullptr : &*baseline);
  }
}

// Ranks are small numbers: the processors of a kind, and on which kind the baseline ran, since speedups are over that.
void remark_on_kinds(const Record& record, Remarks& remarks) {
  const auto& kinds = record.machine.topology.kinds;
  if (kinds.size() < 2) return;
  Figures figures;
  for (const ProcessorKind& kind : kinds) {
    const std::string rank = std::to_string(kind.speed);
    figures.set_made("processors_of_rank_" + rank, count_of(kind.processors.size()));
    int trials = 0;
    for (const Cell& cell : record.cells) {
      if (cell.kind != Cell::Kind::baseline) continue;
      for (const Trial& trial : cell.trials)
        trials +=
            trial.processor && std::count(kind.processors.begin(), kind.processors.end(), *trial.processor) > 0 ? 1 : 0;
    }
    if (trials > 0) figures.set_made("baseline_trials_on_rank_" + rank, trials);
  }
  remarks.add("unlike-processors", std::move(figures));
}

void remark_on_dropped(const Record& record, Remarks& remarks) {
  if (record.dropped_asleep + record.dropped_paused == 0) return;
  remarks.add("dropped-trials", {{"asleep", record.dropped_asleep}, {"paused", record.dropped_paused}});
}

// Rare long calls are in the mean and not in the median.
void remark_on_means(const Analysed& study, Remarks& remarks) {
  constexpr double told = 0.05;
  for (const CellFigures& f : study.cells) {
    if (f.verdict != Verdict::holds || f.cell->kind != Cell::Kind::variant || !f.speedup || !f.speedup_by_means)
      continue;
    const double ratio = *f.speedup_by_means / f.speedup->median;
    if (ratio < 1 + told && ratio > 1 / (1 + told)) continue;
    remarks.add("rare-long-calls", {{"speedup_by_means", *f.speedup_by_means}, {"speedup", f.speedup->median}}, &f);
  }
}

void remark_on_spinning(const Analysed& study, Remarks& remarks) {
  constexpr double told_of_commands = 0.05;  // what ends a moment later is nothing to a long one
  for (const CellFigures& f : study.cells) {
    const double least_s = study.record->commands && f.time_s ? told_of_commands * f.time_s->median : 0;
    if (f.spins_after_s > least_s)
      remarks.add(study.record->commands ? "left-for-a-moment" : "busy-afterwards", {{"tail_s", f.spins_after_s}}, &f);
  }
}

}  // namespace

std::vector<Finding> study_remarks(const Analysed& study) {
  Remarks remarks;
  remark_on_build(*study.record, remarks);
  remark_on_noise(study, remarks);
  remark_on_crowding(*study.record, remarks);
  remark_on_siblings(*study.record, remarks);
  remark_on_settings(*study.record, remarks);
  remark_on_clock(*study.record, remarks);
  remark_on_prints(study, remarks);
  remark_on_pinning(study, remarks);
  remark_on_quota(*study.record, remarks);
  remark_on_own_noise(*study.record, remarks);
  remark_on_sharing(study, remarks);
  remark_on_two_speeds(study, remarks);
  remark_on_kinds(*study.record, remarks);
  remark_on_dropped(*study.record, remarks);
  remark_on_means(study, remarks);
  if (!study.record->complete) remarks.add("ended-early");
  remark_on_spinning(study, remarks);
  return std::move(remarks.found);
}

}  // namespace antcrew::analysis_layer
