#include "antcrew/analysis/analysed.hpp"

#include <algorithm>
#include <map>
#include <set>

#include "antcrew/analysis/noise_notes.hpp"
#include "antcrew/analysis/speedup.hpp"
#include "antcrew/analysis/stages.hpp"

namespace antcrew {
namespace {

// Wider than this to either side, an interval says nothing that one could act on.
constexpr double too_noisy_half_width = 0.25;

// The median of a cell's trials in each round (the baseline has several a round).
std::map<int, double> by_round(const Cell& cell) {
  std::map<int, std::vector<double>> trials;
  for (const Trial& trial : cell.trials) trials[trial.round].push_back(trial.wall_s);
  std::map<int, double> medians;
  for (auto& [round, times] : trials) medians[round] = median(std::move(times));
  return medians;
}

bool same_variant(const Cell& a, const Cell& b) {
  return a.variant == b.variant && a.crew == b.crew && a.kind == b.kind;
}

const Cell* one_worker_cell(const Record& record, const Cell& of) {
  for (const Cell& cell : record.cells) {
    if (same_variant(cell, of) && cell.point == of.point && cell.attempt == of.attempt && cell.workers == 1)
      return &cell;
  }
  return nullptr;
}

bool is_newest(const Record& record, const Cell& cell) {
  return std::none_of(record.cells.begin(), record.cells.end(), [&](const Cell& other) {
    return same_variant(other, cell) && other.point == cell.point && other.workers == cell.workers &&
           other.attempt > cell.attempt;
  });
}

void compute_phases(CellFigures& figures) {
  std::map<std::string, std::vector<double>> times;
  std::map<std::string, std::vector<double>> counts;
  std::map<std::string, std::vector<double>> counters;
  for (const Trial& trial : figures.cell->trials) {
    const double calls = static_cast<double>(trial.calls);
    for (const auto& [name, phase] : trial.phases) {
      times[name].push_back(phase.worker_s / calls);
      counts[name].push_back(static_cast<double>(phase.count) / calls);
    }
    for (const auto& [name, value] : trial.counters) counters[name].push_back(value / calls);
  }
  for (auto& [name, values] : times) {
    figures.phases[name] = {median(std::move(values)), static_cast<std::int64_t>(median(std::move(counts[name])))};
  }
  for (auto& [name, values] : counters) figures.counters[name] = median(std::move(values));
}

void compute_times(CellFigures& figures, double level) {
  const Cell& cell = *figures.cell;
  std::vector<double> times;
  std::vector<double> busy;
  for (const Trial& trial : cell.trials) {
    times.push_back(trial.wall_s);
    if (trial.wall_s > 0) busy.push_back(trial.cpu_s() / trial.wall_s);
    figures.peak_bytes = std::max(figures.peak_bytes, static_cast<double>(trial.peak_bytes));
  }
  for (const std::uint64_t bytes : cell.tree_bytes) {
    figures.several_processes = true;
    figures.peak_bytes = std::max(figures.peak_bytes, static_cast<double>(bytes));
  }
  if (!times.empty()) figures.time_s = median_interval(std::move(times), level);
  if (!busy.empty()) figures.busy_processors = median(std::move(busy));
  if (!cell.startup_s.empty()) figures.startup_s = median(cell.startup_s);
  if (!cell.cold_s.empty() && figures.time_s) figures.cold_cost_s = median(cell.cold_s) - figures.time_s->median;
  compute_phases(figures);
}

// Formed within each round, as the speedup is, so that drift cancels and the two figures agree.
double paired_overhead_s(const Cell& baseline, const Cell& cell) {
  const std::map<int, double> of_baseline = by_round(baseline);
  std::vector<double> overheads;
  for (const auto& [round, time] : by_round(cell)) {
    const auto same_round = of_baseline.find(round);
    if (same_round != of_baseline.end()) overheads.push_back(overhead_s(same_round->second, time, cell.workers));
  }
  return median(std::move(overheads));
}

// Everything that is said against the baseline; only for cells whose answer holds.
void compute_ratios(const Record& record, const Cell& baseline, CellFigures& figures) {
  const Cell& cell = *figures.cell;
  const int processors = record.machine.usable_processors();
  const double level = level_of(record);
  figures.speedup = ratio_by_round(baseline, cell, level);
  if (!figures.speedup) return;
  const double speedup = figures.speedup->median;
  figures.efficiency = efficiency(speedup, cell.workers);
  if (cell.workers > processors) figures.processor_efficiency = speedup / processors;
  figures.overhead_s = paired_overhead_s(baseline, cell);
  figures.relative_overhead = cell.workers / speedup - 1;  // T_o / T_s = p·T_p / T_s − 1
  figures.serial_fraction = serial_fraction(speedup, cell.workers, processors);
  if (const Cell* alone = one_worker_cell(record, cell)) {
    figures.self_speedup = ratio_by_round(*alone, cell, level);
    const auto penalty = ratio_by_round(*alone, baseline, level);
    if (penalty && cell.kind != Cell::Kind::baseline) figures.one_worker_penalty = penalty->median - 1;
  }
  const bool noisy = figures.speedup->claimed && figures.speedup->relative_half_width() > too_noisy_half_width;
  if (cell.kind == Cell::Kind::variant && noisy) {
    figures.verdict = Verdict::too_noisy;
    figures.evidence = "the interval of its speedup is wider than 25 % to either side";
  }
}

Best best_at(const Analysed& study, std::size_t point) {
  std::vector<const CellFigures*> ranked;
  for (const CellFigures& figures : study.cells) {
    const bool counts = figures.cell->point == point && figures.cell->kind == Cell::Kind::variant && figures.newest &&
                        figures.verdict == Verdict::holds && figures.speedup;
    if (counts) ranked.push_back(&figures);
  }
  std::stable_sort(ranked.begin(), ranked.end(),
                   [](const CellFigures* a, const CellFigures* b) { return a->speedup->median > b->speedup->median; });
  Best best;
  if (ranked.empty()) return best;
  best.cell = ranked.front();
  best.faster = best.cell->speedup->claimed && best.cell->speedup->low > 1;
  best.beats_next = ranked.size() == 1;
  if (ranked.size() == 1) return best;
  best.runner_up = ranked[1];
  const auto ratio = ratio_by_round(*best.runner_up->cell, *best.cell->cell, level_of(*study.record));
  best.beats_next = ratio && ratio->claimed && ratio->low > 1;
  return best;
}

// Steps tried in the same rounds are compared pair by pair. Otherwise each has its own speedup over the baseline, and
// the widest interval that these allow is taken.
LadderStep step_after(const CellFigures* previous, const CellFigures& cell, double level) {
  LadderStep step{&cell, std::nullopt, true};
  if (previous == nullptr || !cell.speedup || !previous->speedup) return step;
  step.over_previous = ratio_by_round(*previous->cell, *cell.cell, level);
  if (step.over_previous) return step;
  const Estimate& now = *cell.speedup;
  const Estimate& then = *previous->speedup;
  step.paired = false;
  step.over_previous = Estimate{now.median / then.median, now.low / then.high, now.high / then.low,
                                std::min(now.count, then.count), now.claimed && then.claimed};
  return step;
}

// At the point of the largest size, with the most workers that every step was tried with.
std::vector<LadderStep> climbed(const Analysed& study, const std::vector<std::string>& keys) {
  std::size_t largest = 0;
  for (const CellFigures& f : study.cells) {
    if (study.record->points[f.cell->point].size > study.record->points[largest].size) largest = f.cell->point;
  }
  int workers = 0;
  for (const CellFigures& f : study.cells) {
    if (f.cell->point == largest) workers = std::max(workers, f.cell->workers);
  }
  std::vector<LadderStep> steps;
  for (const std::string& key : keys) {
    std::map<int, const CellFigures*> attempts;  // an older attempt is the step that was there before
    for (const CellFigures& f : study.cells) {
      if (f.cell->point == largest && f.cell->workers == workers &&
          f.cell->variant + " (" + f.cell->crew + ")" == key) {
        attempts[f.cell->attempt] = &f;
      }
    }
    for (const auto& [attempt, figures] : attempts) {
      steps.push_back(step_after(steps.empty() ? nullptr : steps.back().cell, *figures, level_of(*study.record)));
    }
  }
  return steps;
}

std::vector<std::vector<LadderStep>> ladders_of(const Analysed& study) {
  std::vector<std::vector<std::string>> ladders = study.record->ladders;
  std::set<std::string> edited;
  for (const Cell& cell : study.record->cells) {
    const std::string key = cell.variant + " (" + cell.crew + ")";
    const bool named = std::any_of(ladders.begin(), ladders.end(), [&](const auto& ladder) {
      return std::find(ladder.begin(), ladder.end(), key) != ladder.end();
    });
    if (cell.attempt > 1 && !named && edited.insert(key).second) ladders.push_back({key});
  }
  std::vector<std::vector<LadderStep>> climbs;
  for (const auto& keys : ladders) climbs.push_back(climbed(study, keys));
  return climbs;
}

std::vector<CrowdFigure> crowds_of(const Record& record) {
  std::map<std::size_t, double> alone;
  for (const CrowdFacts& crowd : record.crowds) {
    if (crowd.copies == 1 && !crowd.time_s.empty()) alone[crowd.point] = median(crowd.time_s);
  }
  std::vector<CrowdFigure> figures;
  for (const CrowdFacts& crowd : record.crowds) {
    if (crowd.copies > 1 && !crowd.time_s.empty() && alone.count(crowd.point) == 1) {
      figures.push_back({crowd.point, crowd.copies, median(crowd.time_s) / alone[crowd.point]});
    }
  }
  return figures;
}

// A probe has no speedup of its own; it prices what it leaves out of its variant.
void price_parts(Analysed& study) {
  for (CellFigures& probe : study.cells) {
    if (probe.cell->kind != Cell::Kind::probe || !probe.time_s) continue;
    for (const CellFigures& whole : study.cells) {
      const bool its = whole.cell->variant + " (" + whole.cell->crew + ")" == probe.cell->probe_of && whole.newest &&
                       whole.cell->point == probe.cell->point && whole.cell->workers == probe.cell->workers;
      if (its && whole.time_s) probe.part_s = whole.time_s->median - probe.time_s->median;
    }
  }
}

}  // namespace

double level_of(const Record& record) noexcept {
  return record.plan.least_rounds == record.plan.most_rounds ? 0.95 : staged_level;
}

std::optional<Estimate> ratio_by_round(const Cell& a, const Cell& b, double level) {
  const std::map<int, double> of_a = by_round(a);
  std::vector<double> ratios;
  for (const auto& [round, time] : by_round(b)) {
    const auto same_round = of_a.find(round);
    if (same_round != of_a.end() && time > 0) ratios.push_back(same_round->second / time);
  }
  if (ratios.empty()) return std::nullopt;
  return median_interval(std::move(ratios), level);
}

Analysed analyse(const Record& record) {
  Analysed study;
  study.record = &record;
  std::vector<std::string> remarks;
  for (const Cell& cell : record.cells) {
    CellFigures figures;
    figures.cell = &cell;
    figures.newest = is_newest(record, cell);
    Judgement judgement = judge(record, cell);
    figures.verdict = judgement.verdict;
    figures.evidence = std::move(judgement.evidence);
    if (!judgement.remark.empty()) remarks.push_back(std::move(judgement.remark));
    compute_times(figures, level_of(record));
    const Cell* baseline = baseline_of(record, cell.point);
    const bool ratios = figures.verdict == Verdict::holds && cell.kind != Cell::Kind::probe;
    if (ratios && baseline != nullptr && !baseline->trials.empty()) compute_ratios(record, *baseline, figures);
    study.cells.push_back(std::move(figures));
  }
  price_parts(study);
  for (std::size_t point = 0; point < record.points.size(); ++point) study.best.push_back(best_at(study, point));
  study.ladders = ladders_of(study);
  study.crowds = crowds_of(record);
  study.warnings = warnings_of(study);
  for (std::string& remark : remarks) study.warnings.push_back(std::move(remark));
  return study;
}

}  // namespace antcrew
