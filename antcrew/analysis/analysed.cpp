#include "antcrew/analysis/analysed.hpp"

#include <algorithm>
#include <map>

#include "antcrew/analysis/speedup.hpp"

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

const Fault* first_fault(const Cell& cell, Fault::Kind kind) {
  for (const Fault& fault : cell.faults) {
    if (fault.kind == kind) return &fault;
  }
  return nullptr;
}

std::string wrong_answer_evidence(const Cell& cell, const Fault& fault) {
  const auto wrong = std::count_if(cell.trials.begin(), cell.trials.end(), [](const Trial& t) { return !t.agreed; });
  const std::size_t trials = cell.trials.size();
  if (wrong == 0 || static_cast<std::size_t>(wrong) == trials) return fault.text;
  return "in " + std::to_string(wrong) + " of " + std::to_string(trials) +
         " trials, right in the others: " + fault.text;
}

void judge_faults(CellFigures& figures) {
  const Cell& cell = *figures.cell;
  if (const Fault* threw = first_fault(cell, Fault::Kind::threw)) {
    figures.verdict = Verdict::threw;
    figures.evidence = threw->text;
  } else if (const Fault* wrong = first_fault(cell, Fault::Kind::wrong_answer)) {
    figures.verdict = Verdict::wrong_answer;
    figures.evidence = wrong_answer_evidence(cell, *wrong);
  } else if (cell.trials.empty()) {
    figures.evidence = "no trial was made";
  } else {
    figures.verdict = Verdict::holds;
  }
}

const Cell* one_worker_cell(const Record& record, const Cell& of) {
  for (const Cell& cell : record.cells) {
    if (cell.kind == of.kind && cell.variant == of.variant && cell.crew == of.crew && cell.point == of.point &&
        cell.workers == 1) {
      return &cell;
    }
  }
  return nullptr;
}

void compute_times(CellFigures& figures) {
  std::vector<double> times;
  std::vector<double> busy;
  for (const Trial& trial : figures.cell->trials) {
    times.push_back(trial.wall_s);
    if (trial.wall_s > 0) busy.push_back(trial.cpu_s / trial.wall_s);
  }
  if (!times.empty()) figures.time_s = median_interval(std::move(times));
  if (!busy.empty()) figures.busy_processors = median(std::move(busy));
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
  figures.speedup = ratio_by_round(baseline, cell);
  if (!figures.speedup) return;
  const double speedup = figures.speedup->median;
  figures.efficiency = efficiency(speedup, cell.workers);
  if (cell.workers > processors) figures.processor_efficiency = speedup / processors;
  figures.overhead_s = paired_overhead_s(baseline, cell);
  figures.relative_overhead = cell.workers / speedup - 1;  // T_o / T_s = p·T_p / T_s − 1
  figures.serial_fraction = serial_fraction(speedup, cell.workers, processors);
  if (const Cell* alone = one_worker_cell(record, cell)) {
    figures.self_speedup = ratio_by_round(*alone, cell);
    if (!alone->trials.empty() && cell.kind != Cell::Kind::baseline) {
      const auto penalty = ratio_by_round(*alone, baseline);
      if (penalty) figures.one_worker_penalty = penalty->median - 1;
    }
  }
  if (cell.kind != Cell::Kind::baseline && figures.speedup->claimed &&
      figures.speedup->relative_half_width() > too_noisy_half_width) {
    figures.verdict = Verdict::too_noisy;
    figures.evidence = "the interval of its speedup is wider than 25 % to either side";
  }
}

Best best_at(const std::vector<CellFigures>& cells, std::size_t point) {
  std::vector<const CellFigures*> ranked;
  for (const CellFigures& figures : cells) {
    const bool counts = figures.cell->point == point && figures.cell->kind == Cell::Kind::variant &&
                        figures.verdict == Verdict::holds && figures.speedup;
    if (counts) ranked.push_back(&figures);
  }
  std::stable_sort(ranked.begin(), ranked.end(),
                   [](const CellFigures* a, const CellFigures* b) { return a->speedup->median > b->speedup->median; });
  Best best;
  if (ranked.empty()) return best;
  best.cell = ranked.front();
  best.faster = best.cell->speedup->claimed && best.cell->speedup->low > 1;
  if (ranked.size() == 1) {
    best.beats_next = true;
    return best;
  }
  best.runner_up = ranked[1];
  const auto ratio = ratio_by_round(*best.runner_up->cell, *best.cell->cell);
  best.beats_next = ratio && ratio->claimed && ratio->low > 1;
  return best;
}

std::vector<std::string> warnings_of(const Record& record) {
  std::vector<std::string> warnings;
  if (!record.build.optimised) {
    warnings.push_back("the study program was built without optimisation: these times say nothing about a real build");
  } else if (!record.build.library_optimised) {
    warnings.push_back("Ant Crew itself was built without optimisation: the crews are slower than they should be");
  }
  const int processors = record.machine.usable_processors();
  const bool crowded = std::any_of(record.cells.begin(), record.cells.end(),
                                   [&](const Cell& cell) { return cell.workers > processors; });
  if (crowded) {
    warnings.push_back("some cells have more workers than the " + std::to_string(processors) + " usable processor" +
                       (processors == 1 ? "" : "s") +
                       ": their workers take turns, which pays only for work that waits");
  }
  for (const Cell& cell : record.cells) {
    if (cell.asked_processors != cell.granted_processors) {
      warnings.push_back("'" + cell.variant + "' with " + std::to_string(cell.workers) +
                         " workers: the system did not pin every worker as asked");
    }
  }
  return warnings;
}

}  // namespace

const char* name_of(Verdict verdict) noexcept {
  switch (verdict) {
    case Verdict::not_measured:
      return "not measured";
    case Verdict::threw:
      return "threw";
    case Verdict::wrong_answer:
      return "wrong answer";
    case Verdict::too_noisy:
      return "too noisy to call";
    case Verdict::holds:
      break;
  }
  return "holds";
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
  for (const Cell& cell : record.cells) {
    CellFigures figures;
    figures.cell = &cell;
    judge_faults(figures);
    compute_times(figures);
    const Cell* baseline = baseline_of(record, cell.point);
    if (figures.verdict == Verdict::holds && baseline != nullptr && !baseline->trials.empty()) {
      compute_ratios(record, *baseline, figures);
    }
    study.cells.push_back(std::move(figures));
  }
  for (std::size_t point = 0; point < record.points.size(); ++point) study.best.push_back(best_at(study.cells, point));
  study.warnings = warnings_of(record);
  return study;
}

}  // namespace antcrew
