// Findings that rest on timed figures, verdicts and the machine.
#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/internal/finding_families.hpp"
#include "antcrew/analysis/rank_hosts.hpp"
#include "antcrew/analysis/sizes.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/analysis/taken_processors.hpp"

namespace antcrew::internal {
namespace {

Finding& add(std::vector<Finding>& to, const char* id, Finding::Kind kind, const CellFigures* of, Figures figures) {
  Finding& finding = to.emplace_back();
  finding.id = id;
  finding.kind = kind;
  finding.of = of;
  finding.figures = std::move(figures);
  return finding;
}

const CellFigures* sibling(const Analysed& study, const CellFigures& cell, int workers) {
  for (const std::size_t k : study.curves[cell.curve]) {
    if (study.cells[k].cell->workers == workers) return &study.cells[k];
  }
  return nullptr;
}

const CellFigures* baseline_figures(const Analysed& study, const CellFigures& cell) {
  return cell.baseline < 0 ? nullptr : &study.cells[static_cast<std::size_t>(cell.baseline)];
}

bool waits_mostly(const CellFigures& f) {
  return f.busy_processors && *f.busy_processors < 0.5 * f.cell->workers;
}

void add_weak_baseline(const Analysed& study, const CellFigures& cell, std::vector<Finding>& findings) {
  constexpr double told = 1.05;
  // One that has no other worker count is fast by something else than workers.
  if (study.curves[cell.curve].size() < 2) return;
  const CellFigures* one = cell.cell->workers == 1 ? &cell : sibling(study, cell, 1);
  if (one == nullptr || one->verdict != Verdict::holds || !one->speedup || !one->speedup->claimed) return;
  if (one->speedup->low < told) return;
  add(findings, "weak-baseline", Finding::Kind::meaning, &cell, {{"one_worker_speedup", one->speedup->median}});
}

void add_superlinear(const CellFigures& cell, const std::vector<Finding>& so_far, std::vector<Finding>& findings) {
  if (!cell.speedup || !cell.speedup->claimed || cell.cell->workers < 2) return;
  if (cell.speedup->low <= 1.05 * cell.cell->workers) return;
  const bool weak = std::any_of(so_far.begin(), so_far.end(), [](const Finding& f) { return f.id == "weak-baseline"; });
  Finding& finding = add(findings, "superlinear", Finding::Kind::meaning, &cell,
                         {{"speedup", cell.speedup->median}, {"workers", cell.cell->workers}});
  finding.name = weak ? "weak-baseline" : "";
  finding.sure = weak ? Finding::Sure::likely : Finding::Sure::open;
  if (!weak) finding.or_else = "remembered";
}

// CPU time of the program over that of the baseline tells another story than the clock.
void add_cpu_as_wall(const Analysed& study, const CellFigures& cell, std::vector<Finding>& findings) {
  const CellFigures* baseline = baseline_figures(study, cell);
  if (baseline == nullptr || !cell.speedup || !cell.time_s) return;
  const double own_s = median_cpu_s(*cell.cell).value_or(0);
  const double base_s = median_cpu_s(*baseline->cell).value_or(0);
  constexpr double least_s = 1e-3;
  constexpr double told = 1.5;
  if (own_s < least_s || base_s < least_s) return;
  const double by_cpu = base_s / own_s;
  if (by_cpu < told * cell.speedup->high || by_cpu < told) return;
  add(findings, "cpu-as-wall", Finding::Kind::meaning, &cell,
      {{"speedup", cell.speedup->median}, {"speedup_by_cpu", by_cpu}});
}

// A program that reports its own time may mean another one than the reader's.
void add_reported(const CellFigures& cell, std::vector<Finding>& findings) {
  const auto reported = median_where_known(*cell.cell, [](const Trial& t) { return t.reported_s; });
  const auto cpu_s = median_cpu_s(*cell.cell);
  if (!reported || !cpu_s || !cell.time_s) return;
  constexpr double alike = 0.1;
  constexpr double apart = 1.25;
  const double wall_s = cell.time_s->median;
  const bool cpu_time = std::fabs(*reported - *cpu_s) <= alike * *cpu_s && *cpu_s > 1e-3;
  if (cpu_time && (*cpu_s > apart * wall_s || *cpu_s * apart < wall_s))
    add(findings, "cpu-as-wall", Finding::Kind::meaning, &cell,
        {{"reported_s", *reported}, {"wall_s", wall_s}, {"cpu_s", *cpu_s}});
}

// Its workers were there, and one processor's worth of time was used by all of them together.
void add_one_at_a_time(const Analysed& study, const CellFigures& cell, std::vector<Finding>& findings) {
  constexpr double one_processor = 1.15;
  constexpr double computing = 0.6;
  const bool could = std::min(cell.cell->workers, study.record->machine.usable_processors()) >= 2;
  if (!study.record->commands || !could || !cell.busy_processors || !cell.time_s) return;
  if (*cell.busy_processors > one_processor || *cell.busy_processors < computing) return;
  int threads = 0;
  for (const Trial& trial : cell.cell->trials) threads = std::max(threads, trial.most_threads.value_or(0));
  if (threads < 2) return;
  // Where others had the rest, one processor was all that there was to be had.
  constexpr double room = 0.35;
  if (free_processors(*study.record) < *cell.busy_processors + room) return;
  Finding& finding =
      add(findings, "one-at-a-time", Finding::Kind::meaning, &cell,
          {{"workers", cell.cell->workers}, {"busy_processors", *cell.busy_processors}, {"threads", threads}});
  // Few threads may as well be too few workers.
  finding.sure = threads >= cell.cell->workers ? Finding::Sure::likely : Finding::Sure::open;
  if (finding.sure == Finding::Sure::open) finding.or_else = "idle-workers";
}

// What it takes to begin nothing in the same way, where that is a good part of a call.
void add_empty_command(const Analysed& study, const CellFigures& cell, std::vector<Finding>& findings) {
  constexpr double told = 0.05;
  if (!study.record->commands || !cell.time_s) return;
  const CellFigures* baseline = baseline_figures(study, cell);
  const Cell* begun = !cell.cell->empty_s.empty() ? cell.cell : baseline == nullptr ? nullptr : baseline->cell;
  std::vector<double> times = begun == nullptr ? std::vector<double>() : begun->empty_s;
  for (const Cell& other : study.record->cells) {
    if (times.empty() && other.kind == Cell::Kind::baseline) times = other.empty_s;  // of the first point
  }
  if (times.empty()) return;
  const double empty_s = median(std::move(times));
  if (empty_s < told * cell.time_s->median) return;
  add(findings, "empty-command", Finding::Kind::remark, &cell,
      {{"empty_s", empty_s}, {"time_s", cell.time_s->median}, {"launched", cell.cell->empty_s.empty() ? 0.0 : 1.0}});
}

void add_no_more_gain(const Analysed& study, const CellFigures& cell, std::vector<Finding>& findings) {
  if (cell.cell->workers < 2 || cell.verdict != Verdict::holds || !cell.speedup) return;
  const auto enough = worth_it(study, cell.curve);
  if (!enough || enough->of->cell->workers >= cell.cell->workers) return;
  add(findings, "no-more-gain", Finding::Kind::remark, &cell,
      {{"workers", cell.cell->workers},
       {"enough", enough->of->cell->workers},
       {"fastest", enough->best->cell->workers},
       {"slower_at_most", enough->slower_at_most}});
}

// What each further worker takes, over the worker counts of a curve: all slopes between two of them agree on a sign,
// and their range is the interval. One worker count tells nothing of workers.
void add_memory(const Analysed& study, const CellFigures& cell, std::vector<Finding>& findings) {
  const CellFigures* baseline = baseline_figures(study, cell);
  if (baseline == nullptr || cell.cell->workers < 2) return;
  std::vector<const CellFigures*> known;
  for (const std::size_t k : study.curves[cell.curve]) {
    if (study.cells[k].peak_bytes > 0) known.push_back(&study.cells[k]);
  }
  std::vector<double> slopes;
  for (std::size_t i = 0; i < known.size(); ++i) {
    for (std::size_t k = i + 1; k < known.size(); ++k)
      slopes.push_back((known[k]->peak_bytes - known[i]->peak_bytes) /
                       (known[k]->cell->workers - known[i]->cell->workers));
  }
  if (slopes.empty()) return;
  const CellFigures& fewest = *known.front();
  const double each = median(slopes);
  const auto [least, most] = std::minmax_element(slopes.begin(), slopes.end());
  constexpr double noticeable = 64 << 20;
  const double extra = each * (cell.cell->workers - fewest.cell->workers);
  if (!(*least > 0) || extra < noticeable || cell.peak_bytes < 1.5 * fewest.peak_bytes) return;
  const double free = static_cast<double>(study.record->machine.limits.available_bytes);
  Finding& finding =
      add(findings, "memory-grows", Finding::Kind::remark, &cell,
          {{"bytes", cell.peak_bytes},
           {"baseline_bytes", baseline->peak_bytes},
           {"bytes_per_worker", each},
           {"fits_workers", std::floor(fewest.cell->workers + std::max(0.0, free - fewest.peak_bytes) / each)}});
  if (slopes.size() > 1) {
    finding.figures["least_bytes_per_worker"] = *least;
    finding.figures["most_bytes_per_worker"] = *most;
  } else {
    finding.sure = Finding::Sure::likely;  // of two worker counts
  }
}

void add_cold(const CellFigures& cell, std::vector<Finding>& findings) {
  if (!cell.first_speedup || !cell.speedup || !cell.time_s || !cell.cold_cost_s) return;
  if (*cell.cold_cost_s < 0.5 * cell.time_s->median || *cell.first_speedup > 0.7 * cell.speedup->median) return;
  add(findings, "cold-first-call", Finding::Kind::remark, &cell,
      {{"first_speedup", *cell.first_speedup},
       {"speedup", cell.speedup->median},
       {"cold_cost_s", *cell.cold_cost_s},
       {"startup_s", cell.startup_s.value_or(0)}});
}

void add_probes(const Analysed& study, const CellFigures& cell, std::vector<Finding>& findings) {
  for (const CellFigures& f : study.cells) {
    const bool its = f.cell->kind == Cell::Kind::probe && f.cell->point == cell.cell->point &&
                     f.cell->workers == cell.cell->workers && f.cell->probe_of == cell.cell->key();
    if (!its || !f.part_s || !cell.time_s) continue;
    const bool clear = f.part_s->claimed && f.part_s->leaves_out(0);
    Finding& finding = add(findings, "probe", Finding::Kind::remark, &cell,
                           {{"part_s", f.part_s->median},
                            {"part_low_s", f.part_s->low},
                            {"part_high_s", f.part_s->high},
                            {"part_share", f.part_s->median / cell.time_s->median}});
    finding.name = f.cell->variant;
    finding.sure = clear ? Finding::Sure::measured : Finding::Sure::open;
  }
}

// What makes a cell's time mean nothing.
const char* fault_of(Verdict verdict) {
  switch (verdict) {
    case Verdict::crashed:
      return "crashed";
    case Verdict::out_of_memory:
      return "out-of-memory";
    case Verdict::timed_out:
      return "timed-out";
    case Verdict::threw:
      return "threw";
    case Verdict::wrong_answer:
      return "wrong-answer";
    case Verdict::changed_input:
      return "changed-input";
    case Verdict::changed_program:
      return "changed-program";
    case Verdict::left_work:
      return "deferred-work";
    case Verdict::remembered:
      return "remembered";
    default:
      return nullptr;
  }
}

}  // namespace

void add_meanings(const Analysed& study, const CellFigures& cell, std::vector<Finding>& findings) {
  if (const char* fault = fault_of(cell.verdict)) {
    add(findings, fault, Finding::Kind::meaning, &cell, {}).name = cell.evidence;
  }
  // On a machine that others use, too, reading is slow for that.
  if (cell.read_speedup && cell.speedup && taken_processors(*study.record, *cell.cell) < much_taken) {
    add(findings, "deferred-work", Finding::Kind::meaning, &cell,
        {{"read_speedup", *cell.read_speedup}, {"speedup", cell.speedup->median}});
  }
  if (cell.verdict < Verdict::too_few_rounds) return;
  add_weak_baseline(study, cell, findings);
  add_superlinear(cell, findings, findings);
  add_cpu_as_wall(study, cell, findings);
  add_reported(cell, findings);
  add_one_at_a_time(study, cell, findings);
}

void add_unused_crew(const CellFigures& cell, const std::vector<Ledger>& ledgers, std::vector<Finding>& findings) {
  constexpr double all_of_it = 0.98;
  if (cell.cell->crew == "Workers" || cell.cell->workers < 2 || cell.verdict == Verdict::idle_workers) return;
  const bool never = std::all_of(ledgers.begin(), ledgers.end(), [](const Ledger& ledger) {
    const double beside = ledger.parts_s[LaneState::serial] + ledger.parts_s[LaneState::serial_wait];
    return !ledger.sums->looks && !(ledger.sums->regions > 0) && beside >= all_of_it * ledger.lane_seconds();
  });
  if (!ledgers.empty() && never) add(findings, "idle-workers", Finding::Kind::meaning, &cell, {{"never_called", 1}});
}

void add_remarks(const Analysed& study, const CellFigures& cell, std::vector<Finding>& findings) {
  if (cell.verdict == Verdict::idle_workers)
    add(findings, "idle-workers", Finding::Kind::meaning, &cell, {}).name = cell.evidence;
  if (cell.verdict < Verdict::too_few_rounds) return;
  const int cores = study.record->machine.topology.physical_cores;
  const int processors = study.record->machine.usable_processors();
  const bool elsewhere = ranks_of(*cell.cell) != nullptr;
  if (!elsewhere && cores > 0 && cell.cell->workers > cores && cell.cell->workers <= processors && !waits_mostly(cell))
    add(findings, "shared-cores", Finding::Kind::remark, &cell, {{"cores", cores}, {"workers", cell.cell->workers}});
  add_no_more_gain(study, cell, findings);
  add_memory(study, cell, findings);
  add_cold(cell, findings);
  add_empty_command(study, cell, findings);
  add_probes(study, cell, findings);
  const auto throttled = median_where_known(*cell.cell, [](const Trial& t) { return t.throttled_s; });
  if (throttled && cell.time_s && *throttled > 0.05 * cell.time_s->median)
    add(findings, "throttled", Finding::Kind::remark, &cell, {{"throttled_s", *throttled}});
  if (cell.verdict == Verdict::too_noisy) add(findings, "noise", Finding::Kind::remark, &cell, {});
  if (cell.verdict == Verdict::too_few_rounds) add(findings, "too-few-rounds", Finding::Kind::remark, &cell, {});
}

}  // namespace antcrew::internal
