#include "antcrew/analysis/analysed.hpp"

#include <algorithm>
#include <map>
#include <numeric>
#include <set>
#include <string_view>
#include <tuple>

#include "antcrew/analysis/internal/derived_figures.hpp"
#include "antcrew/analysis/pairing.hpp"
#include "antcrew/analysis/rank_hosts.hpp"
#include "antcrew/analysis/speedup.hpp"
#include "antcrew/analysis/stages.hpp"
#include "antcrew/analysis/study_remarks.hpp"
#include "antcrew/analysis/thresholds.hpp"

namespace antcrew::analysis_layer {
namespace {

// Wider than this to either side, an interval says nothing that one could act on.
constexpr double too_noisy_half_width = 0.25;

bool same_variant(const Cell& a, const Cell& b) {
  return a.variant == b.variant && a.crew == b.crew && a.kind == b.kind && a.baseline_for == b.baseline_for;
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
  std::map<std::string, std::vector<double>> walls;
  std::map<std::string, int> at_once;
  std::map<std::string, std::vector<double>> counters;
  std::map<std::string, std::vector<double>> quantities;
  std::map<std::string, std::map<std::string, std::vector<double>>> by_worker;
  for (const Trial& trial : figures.cell->trials) {
    const double calls = static_cast<double>(trial.calls);
    for (const auto& [name, phase] : trial.phases) {
      times[name].push_back(phase.worker_s / calls);
      counts[name].push_back(static_cast<double>(phase.count) / calls);
      if (phase.wall_s) walls[name].push_back(*phase.wall_s / calls);
      at_once[name] = std::max(at_once[name], phase.at_once.value_or(0));
      for (const auto& [worker, seconds] : phase.by_worker_s) by_worker[name][worker].push_back(seconds / calls);
    }
    for (const auto& [name, value] : trial.counters) counters[name].push_back(value / calls);
    for (const auto& [name, value] : trial.quantities) quantities[name].push_back(value / calls);
  }
  for (auto& [name, values] : times) {
    PhaseFacts& phase = figures.phases[name];
    phase.worker_s = median(std::move(values));
    phase.count = static_cast<std::int64_t>(median(std::move(counts[name])));
    if (!walls[name].empty()) phase.wall_s = median(std::move(walls[name]));
    if (at_once[name] > 0) phase.at_once = at_once[name];
    for (auto& [worker, seconds] : by_worker[name]) phase.by_worker_s[worker] = median(std::move(seconds));
  }
  for (auto& [name, values] : counters) figures.counters[name] = median(std::move(values));
  for (auto& [name, values] : quantities) figures.quantities[name] = median(std::move(values));
}

// CPU times are means over all calls of a trial, so wall time is one, too: beside the median of its batches, a few that
// were kept waiting would make two workers keep more than two processors busy.
std::optional<double> busy_processors(const Trial& trial) {
  const auto cpu_s = trial.cpu_s();
  const double wall_s = trial.times_s.empty() ? trial.wall_s
                                              : std::accumulate(trial.times_s.begin(), trial.times_s.end(), 0.0) /
                                                    static_cast<double>(trial.times_s.size());
  return cpu_s && wall_s > 0 ? std::optional<double>(*cpu_s / wall_s) : std::nullopt;
}

void compute_times(CellFigures& figures, int confirming, double level) {
  const Cell& cell = *figures.cell;
  std::vector<double> busy;
  for (const Trial& trial : cell.trials) {
    if (const auto processors = busy_processors(trial)) busy.push_back(*processors);
    figures.peak_bytes = std::max(figures.peak_bytes, static_cast<double>(trial.peak_bytes.value_or(0)));
  }
  for (const std::uint64_t bytes : cell.tree_bytes) {
    figures.several_processes = true;
    figures.peak_bytes = std::max(figures.peak_bytes, static_cast<double>(bytes));
  }
  figures.time_s = estimate_of(times_of(cell, confirming), level);
  if (!busy.empty()) figures.busy_processors = median(std::move(busy));
  if (!cell.startup_s.empty()) figures.startup_s = median(cell.startup_s);
  if (!cell.cold_s.empty() && figures.time_s) figures.cold_cost_s = median(cell.cold_s) - figures.time_s->median;
  compute_phases(figures);
}

// Formed within each round, as the speedup is, so that drift cancels and the two figures agree.
std::optional<Estimate> paired_overhead_s(const Cell& baseline, const Cell& cell, int confirming) {
  auto overhead = estimate_of(pairs_of(baseline, cell, confirming,
                                       [&](const Trial& its, const Trial& trial) {
                                         return overhead_s(its.wall_s, trial.wall_s, cell.workers);
                                       }),
                              0.95);
  return overhead;
}

// Where the middle of few values is told, the rest cannot be called.
void judge_precision(CellFigures& figures) {
  if (figures.cell->kind != Cell::Kind::variant || figures.verdict != Verdict::holds) return;
  const Estimate& speedup = *figures.speedup;
  if (!speedup.claimed) {
    figures.verdict = Verdict::too_few_rounds;
  } else if (!speedup.leaves_out(1) && speedup.relative_half_width() > too_noisy_half_width) {
    figures.verdict = Verdict::too_noisy;
    figures.evidence = "the interval of its speedup is wider than 25 % to either side, and 1 lies in it";
  }
}

// Everything that is said against the baseline; only for cells whose answer holds.
void compute_ratios(const Record& record, const Cell& baseline, CellFigures& figures, int confirming) {
  const Cell& cell = *figures.cell;
  const int processors = processors_of(record, cell);
  const double level = confirming > 0 ? 0.95 : level_of(record);
  figures.explored = explored_ratio(baseline, cell, level_of(record), figures.correlation);
  figures.speedup = figures.explored;
  if (confirming > 0) {
    const auto claim = claim_of(baseline, cell, confirming, level, chosen_from(record, cell.point));
    figures.speedup = claim ? std::optional(claim->ratio) : std::nullopt;
  }
  if (!figures.speedup) return;
  const double speedup = figures.speedup->median;
  if (const auto by_means = estimate_of(ratios_of(baseline, cell, confirming, mean_time), level))
    figures.speedup_by_means = by_means->median;
  figures.efficiency = efficiency(speedup, cell.workers);
  internal::compute_reading(baseline, figures);
  figures.speedup_by_cpu = internal::speedup_by_cpu(baseline, cell, processors);
  if (!cell.cold_s.empty() && !baseline.cold_s.empty())
    figures.first_speedup = median(baseline.cold_s) / median(cell.cold_s);
  if (cell.workers > processors) figures.processor_efficiency = speedup / processors;
  figures.overhead_bounds = paired_overhead_s(baseline, cell, confirming);
  if (figures.overhead_bounds) figures.overhead_s = figures.overhead_bounds->median;
  figures.relative_overhead = cell.workers / speedup - 1;  // T_o / T_s = p·T_p / T_s − 1
  figures.efficiency_bounds = internal::scaled(*figures.speedup, 1.0 / cell.workers);
  if (const Cell* alone = one_worker_cell(record, cell)) {
    figures.self_speedup = explored_ratio(*alone, cell, level_of(record), figures.correlation);
    const auto penalty = explored_ratio(*alone, baseline, level_of(record), figures.correlation);
    if (penalty && cell.kind != Cell::Kind::baseline) figures.one_worker_penalty = penalty->median - 1;
  }
  internal::compute_serial_fraction(figures, processors);
  const Cell* alone = cell.workers > 1 ? one_worker_cell(record, cell) : &cell;
  internal::compute_work(record.points[cell.point], alone != nullptr ? *alone : baseline, figures);
  judge_precision(figures);
}

Best best_at(const Analysed& study, std::size_t point) {
  const Conclusion& answer = study.conclusion;
  Best best;
  if (answer.leader != nullptr && answer.point == point) {
    best.cell = answer.leader;
  } else if (const auto order = contenders(study, point); !order.empty()) {
    best.cell = &study.cells[order.front()];
  }
  best.faster =
      best.cell != nullptr && best.cell->speedup && best.cell->speedup->claimed && best.cell->speedup->low > 1;
  return best;
}

// Steps tried in the same rounds are compared pair by pair. Otherwise each has its own speedup over the baseline, and
// the widest interval that these allow is taken.
LadderStep step_after(const CellFigures* previous, const CellFigures& cell, double level) {
  LadderStep step{&cell, std::nullopt, true};
  if (previous == nullptr || !cell.speedup || !previous->speedup) return step;
  step.over_previous = ratio_of_times(*previous->cell, *cell.cell, level);
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
  const std::size_t largest = headline_point(*study.record);
  int workers = 0;
  for (const CellFigures& f : study.cells) {
    if (f.cell->point == largest) workers = std::max(workers, f.cell->workers);
  }
  std::vector<LadderStep> steps;
  for (const std::string& key : keys) {
    std::map<int, const CellFigures*> attempts;  // an older attempt is the step that was there before
    for (const CellFigures& f : study.cells) {
      if (f.cell->point == largest && f.cell->workers == workers && f.cell->key() == key) {
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
    const std::string key = cell.key();
    const bool named = std::any_of(ladders.begin(), ladders.end(), [&](const auto& ladder) {
      return std::find(ladder.begin(), ladder.end(), key) != ladder.end();
    });
    const bool again = cell.attempt > 1 && cell.kind != Cell::Kind::baseline;
    if (again && !named && edited.insert(key).second) ladders.push_back({key});
  }
  std::vector<std::vector<LadderStep>> climbs;
  for (const auto& keys : ladders) climbs.push_back(climbed(study, keys));
  return climbs;
}

// Copies are tried one after the other, alone and together, in the same generation: the k-th of one belongs to the k-th
// of the other.
std::vector<CrowdFigure> crowds_of(const Record& record) {
  std::map<std::size_t, const CrowdFacts*> alone;
  for (const CrowdFacts& crowd : record.crowds) {
    if (crowd.copies == 1) alone[crowd.point] = &crowd;
  }
  std::vector<CrowdFigure> figures;
  for (const CrowdFacts& crowd : record.crowds) {
    const auto one = alone.find(crowd.point);
    if (crowd.copies == 1 || one == alone.end()) continue;
    std::vector<double> ratios;
    for (std::size_t k = 0; k < std::min(crowd.time_s.size(), one->second->time_s.size()); ++k) {
      if (one->second->time_s[k] > 0) ratios.push_back(crowd.time_s[k] / one->second->time_s[k]);
    }
    if (!ratios.empty()) figures.push_back({crowd.point, crowd.copies, median_interval(std::move(ratios), 0.95)});
  }
  return figures;
}

// Two heaps of times with an empty stretch between them, each of a fifth of all at least.
std::optional<TwoSpeeds> two_speeds_of(const Cell& baseline) {
  constexpr std::size_t least_trials = 12;
  constexpr double least_apart = 1.08;
  constexpr double empty_stretch = 3;  // in spreads of the wider heap
  std::vector<double> times;
  for (const Trial& trial : baseline.trials) times.push_back(trial.wall_s);
  if (times.size() < least_trials) return std::nullopt;
  std::sort(times.begin(), times.end());
  const std::size_t fifth = times.size() / 5;
  std::size_t split = fifth;
  for (std::size_t i = fifth; i + fifth < times.size(); ++i) {
    if (times[i + 1] - times[i] > times[split + 1] - times[split]) split = i;
  }
  const auto heap = [&](std::size_t first, std::size_t last) {
    return std::vector<double>(times.begin() + static_cast<std::ptrdiff_t>(first),
                               times.begin() + static_cast<std::ptrdiff_t>(last));
  };
  const std::vector<double> low = heap(0, split + 1);
  const std::vector<double> high = heap(split + 1, times.size());
  const auto middle_half = [](const std::vector<double>& v) { return v[v.size() * 3 / 4] - v[v.size() / 4]; };
  const double spread = std::max(middle_half(low), middle_half(high));
  const double gap = times[split + 1] - times[split];
  if (median(high) < least_apart * median(low) || gap < empty_stretch * spread) return std::nullopt;
  return TwoSpeeds{baseline.point, median(low), median(high), static_cast<int>(low.size()),
                   static_cast<int>(high.size())};
}

// A probe has no speedup of its own; it prices what it leaves out of its variant.
void price_parts(Analysed& study) {
  for (CellFigures& probe : study.cells) {
    if (probe.cell->kind != Cell::Kind::probe || !probe.time_s) continue;
    for (const CellFigures& whole : study.cells) {
      const bool its = whole.cell->key() == probe.cell->probe_of && whole.newest &&
                       whole.cell->point == probe.cell->point && whole.cell->workers == probe.cell->workers;
      if (!its) continue;
      probe.part_s = estimate_of(pairs_of(*whole.cell, *probe.cell, exploring,
                                          [](const Trial& a, const Trial& b) { return a.wall_s - b.wall_s; }),
                                 level_of(*study.record));
    }
  }
}

}  // namespace

double level_of(const Record& record) noexcept {
  return record.plan.least_rounds == record.plan.most_rounds ? 0.95 : staged_level;
}

std::optional<Estimate> ratio_of_times(const Cell& a, const Cell& b, double level) {
  return estimate_of(ratios_of(a, b, exploring), level);
}

namespace {

// The confirmation that a cell's figures are those of; 0 = exploring.
int confirmation_of(const Record& record, int number, const Cell& cell) {
  if (number == 0) return exploring;
  const ConfirmationFacts& facts = record.confirmations.back();
  const auto index = static_cast<std::size_t>(&cell - record.cells.data());
  const bool among = facts.leader == index || std::count(facts.rivals.begin(), facts.rivals.end(), index) > 0 ||
                     baseline_of(record, record.cells[facts.leader]) == &cell;
  return among && static_cast<int>(times_of(cell, number).size()) >= least_for_interval ? number : exploring;
}

}  // namespace

namespace {

void find_curves(Analysed& study) {
  using Key = std::tuple<std::size_t, Cell::Kind, std::string_view, std::string_view, int, std::string_view>;
  std::map<Key, std::size_t> known;
  for (std::size_t k = 0; k < study.cells.size(); ++k) {
    CellFigures& figures = study.cells[k];
    const Cell& cell = *figures.cell;
    const Key key{cell.point, cell.kind, cell.variant, cell.crew, cell.attempt, cell.baseline_for};
    const auto [at, fresh] = known.emplace(key, study.curves.size());
    if (fresh) study.curves.emplace_back();
    figures.curve = at->second;
    study.curves[figures.curve].push_back(k);
    const Cell* baseline = baseline_of(*study.record, cell);
    if (baseline != nullptr) figures.baseline = baseline - study.record->cells.data();
  }
  for (auto& curve : study.curves) {
    std::stable_sort(curve.begin(), curve.end(), [&](std::size_t a, std::size_t b) {
      return study.cells[a].cell->workers < study.cells[b].cell->workers;
    });
  }
}

}  // namespace

Analysed analyse(const Record& record) {
  Analysed study;
  study.record = &record;
  const int number = confirmed_by(record);
  const std::vector<double> correlations = explored_correlations(record);
  for (const Cell& cell : record.cells) {
    CellFigures figures;
    figures.cell = &cell;
    figures.correlation = correlations[study.cells.size()];
    figures.newest = is_newest(record, cell);
    Judgement judgement = judge(record, cell);
    figures.verdict = judgement.verdict;
    figures.evidence = std::move(judgement.evidence);
    figures.spins_after_s = judgement.spins_after_s;
    const int confirming = confirmation_of(record, number, cell);
    figures.confirmed = confirming > 0;
    compute_times(figures, confirming, confirming > 0 ? 0.95 : level_of(record));
    const Cell* baseline = baseline_of(record, cell);
    const bool ratios = figures.verdict == Verdict::holds && cell.kind != Cell::Kind::probe;
    if (ratios && baseline != nullptr && !baseline->trials.empty())
      compute_ratios(record, *baseline, figures, confirming);
    if (cell.kind == Cell::Kind::baseline) {
      if (const auto humps = two_speeds_of(cell)) study.two_speeds.push_back(*humps);
    }
    study.cells.push_back(std::move(figures));
  }
  find_curves(study);
  price_parts(study);
  study.conclusion = conclude(study);
  for (std::size_t point = 0; point < record.points.size(); ++point) study.best.push_back(best_at(study, point));
  study.ladders = ladders_of(study);
  study.crowds = crowds_of(record);
  study.remarks = study_remarks(study);
  return study;
}

}  // namespace antcrew::analysis_layer
