#include "antcrew/study/internal/block_run.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "antcrew/analysis/claim.hpp"
#include "antcrew/analysis/pairing.hpp"
#include "antcrew/analysis/series.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/internal/run_parts.hpp"

namespace antcrew::internal {
namespace {

constexpr double hangs_share = 0.1;      // of the budget, for the hangs of one variant
constexpr std::size_t memory_looks = 3;  // at a cell's processes, each in another cell process
constexpr int most_leaks = 3;            // visits that left work running; after these nothing new is learnt

// No further visit is made.
bool ends(const Fault& fault) {
  return fault.kind != Fault::Kind::wrong_answer && fault.kind != Fault::Kind::left_work &&
         fault.kind != Fault::Kind::threads_left;
}

bool gave_up(const Cell& cell) {
  return std::any_of(cell.faults.begin(), cell.faults.end(), ends);
}

// Each block of a confirmation finds it again.
bool has_fault(const Cell& cell, Fault::Kind kind) {
  return std::any_of(cell.faults.begin(), cell.faults.end(), [&](const Fault& fault) { return fault.kind == kind; });
}

// By what may come and go. A hang is not waited for twice.
bool ended_once(const Cell& cell) {
  int times = 0;
  for (const Fault& fault : cell.faults) {
    const bool comes_and_goes = fault.kind == Fault::Kind::crashed || fault.kind == Fault::Kind::threw ||
                                fault.kind == Fault::Kind::out_of_memory;
    if (ends(fault) && !comes_and_goes) return false;
    times += comes_and_goes ? 1 : 0;
  }
  return times == 1;
}

bool is_newest(const Record& record, const Cell& cell) {
  return std::none_of(record.cells.begin(), record.cells.end(), [&](const Cell& other) {
    return other.kind != Cell::Kind::baseline && other.variant == cell.variant && other.crew == cell.crew &&
           other.workers == cell.workers && other.point == cell.point && other.attempt > cell.attempt;
  });
}

Running running(const RunState& run, std::size_t index) {
  const Cell& cell = run.record.cells[index];
  Running r;
  r.index = index;
  r.is_baseline = cell.kind == Cell::Kind::baseline;
  const auto variant = run.variant_of(cell);
  r.spec = {!r.is_baseline && variant ? static_cast<int>(*variant) : CellSpec::the_baseline, cell.workers,
            run.record.points[cell.point].pin};
  r.stages = StageWatch(run.record.plan.width);
  r.stand = cell.trials.empty() ? 0 : cell.trials.back().stand;
  const auto hung = run.hung_s.find(cell.key());
  const bool hangs = !r.is_baseline && hung != run.hung_s.end() && run.budget.limited() &&
                     hung->second >= hangs_share * run.budget.total_s();
  r.over = gave_up(cell) || hangs;
  return r;
}

}  // namespace

std::vector<Running> cells_among(const RunState& run, std::size_t point, const std::vector<std::size_t>& indices) {
  std::vector<std::size_t> baselines;
  for (const std::size_t index : indices) {
    const Cell* its = baseline_of(run.record, run.record.cells[index]);
    const auto place = static_cast<std::size_t>(its - run.record.cells.data());
    if (its != nullptr && its->point == point && std::count(baselines.begin(), baselines.end(), place) == 0)
      baselines.push_back(place);
  }
  std::vector<Running> cells;
  for (const std::size_t index : baselines) cells.push_back(running(run, index));
  for (const std::size_t index : indices) cells.push_back(running(run, index));
  return cells;
}

std::vector<Running> cells_at(const RunState& run, std::size_t point) {
  std::vector<std::size_t> indices;
  for (std::size_t i = 0; i < run.record.cells.size(); ++i) {
    const Cell& cell = run.record.cells[i];
    const bool meant = cell.point == point && cell.kind != Cell::Kind::baseline && run.variant_of(cell);
    if (meant && is_newest(run.record, cell)) indices.push_back(i);
  }
  return cells_among(run, point, indices);
}

BlockRun::BlockRun(RunState& run, std::size_t point, std::vector<Running> cells, int confirming)
    : run_(run), point_(point), cells_(std::move(cells)), confirming_(confirming) {
  facts_.point = point;
  facts_.confirming = confirming;
  begin_where_it_ended();
}

// What earlier runs of this record did: rounds, generations, looks, and the round that was not finished.
void BlockRun::begin_where_it_ended() {
  std::set<int> seen;
  for (const Running& r : cells_) {
    for (const Trial& trial : run_.record.cells[r.index].trials) {
      if (trial.confirming != confirming_) continue;
      round_ = std::max(round_, trial.round);
      generation_ = std::max(generation_, trial.generation);
      seen.insert(trial.generation);
    }
  }
  // Other attempts at this point have rounds of their own.
  if (generation_ == 0) {
    for (const Cell& cell : run_.record.cells) {
      for (const Trial& trial : cell.trials) {
        if (cell.point != point_ || trial.confirming != confirming_) continue;
        round_ = std::max(round_, trial.round);
        generation_ = std::max(generation_, trial.generation);
      }
    }
    return;
  }
  const bool staged = confirming_ == 0 && run_.plan.rounds == 0;
  const std::vector<double> correlations = staged ? explored_correlations(run_.record) : std::vector<double>();
  for (Running& r : cells_) {
    const Cell& cell = run_.record.cells[r.index];
    r.visited = std::any_of(cell.trials.begin(), cell.trials.end(), [&](const Trial& trial) {
      return trial.confirming == confirming_ && trial.round == round_;
    });
    if (r.baseline() || !staged) continue;
    std::vector<double> values;
    const double times = widening(correlations[r.index]);
    for (const auto& [generation, ratio] : ratios_of(*baseline_of(run_.record, cell), cell, confirming_)) {
      values.push_back(ratio);
      if (is_stage_end(static_cast<int>(values.size())))
        r.over = r.stages.finished(widened(median_interval(values, staged_level), times)) || r.over;
    }
  }
  unfinished_ = std::any_of(cells_.begin(), cells_.end(),
                            [](const Running& r) { return !r.baseline() && !r.over && !r.visited; });
  generations_ = static_cast<int>(seen.size()) - (unfinished_ ? 1 : 0);
}

void BlockRun::be_block(int number, std::uint64_t input_seed, bool afresh) noexcept {
  facts_.block = number;
  facts_.input_seed = input_seed;
  facts_.afresh = afresh;
}

bool BlockRun::open() {
  opened_at_s_ = run_.elapsed_s();
  before_ = run_.tools.machine_times();
  own_before_s_ = run_.tools.own_cpu_s();
  std::vector<CellSpec> specs;
  for (const Running& r : cells_) specs.push_back(r.spec);
  Point at = run_.record.points[point_];
  at.seed = facts_.input_seed;
  auto fault = run_.tools.host.open(at, specs, facts_);
  run_.opening_s[point_] = opening_s_ = run_.elapsed_s() - opened_at_s_;
  const bool fatal = fault && fault->kind != Fault::Kind::threads_left;
  const bool told = fault && has_fault(run_.record.cells[cells_.front().index], fault->kind);
  if (fault && !told) {
    RecordStep step;
    step.visited.emplace();
    step.visited->cell = cells_.front().index;
    step.visited->seen.faults.push_back(std::move(*fault));
    run_.add(std::move(step));
  }
  if (!fatal && facts_.block <= 1) state_memory();
  run_.visit_ended_ns = run_.tools.now_ns();
  return !fatal;
}

void BlockRun::close() {
  run_.tools.host.close();
  const MachineTimes after = run_.tools.machine_times();
  facts_.wall_s = run_.elapsed_s() - opened_at_s_;
  facts_.own_cpu_s = run_.tools.own_cpu_s() - own_before_s_;
  facts_.other_cpu_s = std::max(0.0, after.busy_s - before_.busy_s - facts_.own_cpu_s);
  facts_.steal_s = std::max(0.0, after.steal_s - before_.steal_s);
  facts_.throttled_s = std::max(0.0, after.throttled_s - before_.throttled_s);
  RecordStep step;
  step.block = facts_;
  run_.add(std::move(step));
}

void BlockRun::lost(Fault fault) {
  for (Running& r : cells_) r.over = true;
  RecordStep step;
  step.visited.emplace();
  step.visited->cell = cells_.front().index;
  step.visited->seen.faults.push_back(std::move(fault));
  run_.add(std::move(step));
}

void BlockRun::check(std::size_t cell, std::size_t other_size) {
  keep_beside(cell, run_.tools.host.check(cell, other_size));
}

void BlockRun::try_again(const MayGo& may_go) {
  for (std::size_t i = 0; i < cells_.size(); ++i) {
    const Cell& cell = run_.record.cells[cells_[i].index];
    if (cells_[i].baseline() || !ended_once(cell) || cell.came_through) continue;
    if (run_.hooks.stop && run_.hooks.stop()) throw Stopped{};
    if (!may_go(foreseen_s(cells_[i]))) return;
    Visit visit = run_.tools.host.visit(i, {round_, run_.visit_ended_ns, false, false});
    Visit told;
    told.seen.came_through = !gave_up(visit.seen);
    for (Fault& fault : visit.seen.faults) {
      if (ends(fault)) told.seen.faults.push_back(std::move(fault));
    }
    keep_beside(i, std::move(told));
  }
}

void BlockRun::meter(std::size_t cell, int calls, bool one_worker) {
  Visit visit = run_.tools.host.meter(cell, calls, one_worker);
  if (!visit.seen.metered.empty()) keep_beside(cell, std::move(visit));
}

// What was not timed.
void BlockRun::keep_beside(std::size_t cell, Visit visit) {
  run_.visit_ended_ns = run_.tools.now_ns();
  RecordStep step;
  step.visited.emplace();
  step.visited->cell = cells_[cell].index;
  step.visited->seen = std::move(visit.seen);
  run_.add(std::move(step));
}

void BlockRun::state_memory() const {
  if (!run_.hooks.on_note) return;
  const std::uint64_t free = read_limits().available_bytes;
  // Input and reference are shared; the cell process on trial makes answers, or a copy, of its own.
  const std::uint64_t needed = 2 * facts_.input_bytes;
  if (needed > free / 2) {
    run_.note(fmt::format("size {} needs about {} of the {} that are free", run_.record.points[point_].size,
                          bytes_text(needed), bytes_text(free)));
  }
}

bool BlockRun::baseline_over() const noexcept {
  return std::any_of(cells_.begin(), cells_.end(), [](const Running& r) { return r.baseline() && r.over; });
}

bool BlockRun::variants_over() const noexcept {
  return std::all_of(cells_.begin(), cells_.end(), [](const Running& r) { return r.baseline() || r.over; });
}

bool BlockRun::generation(int rounds, const MayGo& may_go) {
  run_.wait_until_idle();
  run_.time_yardstick(false);
  const double began_s = run_.elapsed_s();
  renewing_s_ = visiting_s_ = 0;
  for (Running& r : cells_) r.spent_s = 0;
  const bool going_on = unfinished_;
  if (!going_on) ++generation_;
  bool whole = true;
  for (int k = 1; k <= (going_on ? 1 : rounds) && whole; ++k) {
    if (!unfinished_) {
      ++round_;
      for (Running& r : cells_) r.visited = false;
    }
    unfinished_ = false;
    whole = one_round(k < rounds && !going_on, may_go);
    any_round_ = true;
    if (run_.hooks.on_round) run_.hooks.on_round(run_.record);
  }
  if (rounds > 1) run_.tools.host.renew();
  last_generation_s_ = run_.elapsed_s() - began_s;
  if (whole) ++generations_;
  return whole;
}

// The first round of a point begins with what is wanted most, in case there is no time for more.
std::vector<std::size_t> BlockRun::order_of_want() const {
  std::vector<std::size_t> order;
  for (std::size_t i = 0; i < cells_.size(); ++i) {
    if (cells_[i].baseline() || (!cells_[i].over && !cells_[i].visited)) order.push_back(i);
  }
  std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
    if (cells_[a].baseline() != cells_[b].baseline()) return cells_[a].baseline();
    return cells_[a].spec.workers > cells_[b].spec.workers;
  });
  return order;
}

std::vector<std::size_t> BlockRun::order() {
  if (!any_round_ && generations_ == 0 && confirming_ == 0) return order_of_want();
  std::vector<std::size_t> baselines;
  std::vector<std::size_t> others;
  for (std::size_t i = 0; i < cells_.size(); ++i) {
    if (cells_[i].baseline()) {
      baselines.push_back(i);
    } else if (!cells_[i].over && !cells_[i].visited) {
      others.push_back(i);
    }
  }
  return order_of_round(baselines, std::move(others), run_.random);
}

bool BlockRun::one_round(bool keep_processes, const MayGo& may_go) {
  for (const std::size_t cell : order()) {
    if (baseline_over()) return false;
    if (run_.hooks.stop && run_.hooks.stop()) throw Stopped{};
    if (!may_go(foreseen_s(cells_[cell]))) return false;
    if (cells_[cell].over) continue;
    run_.tell_progress(run_.record.cells[cells_[cell].index]);
    visit(cell, keep_processes);
  }
  return !baseline_over();
}

double BlockRun::foreseen_s(const Running& cell) const {
  const auto known = run_.visit_s.find(cell.index);
  return known != run_.visit_s.end() ? known->second : facts_.reference_s;
}

void BlockRun::visit(std::size_t cell, bool keep_process) {
  Running& r = cells_[cell];
  const std::int64_t since_ns = run_.visit_ended_ns;
  const bool memory = run_.record.cells[r.index].tree_bytes.size() < memory_looks;
  Visit visit = run_.tools.host.visit(cell, {round_, since_ns, keep_process, memory});
  run_.visit_ended_ns = run_.tools.now_ns();
  if (facts_.afresh && r.baseline() && visit.over && !visit.seen.faults.empty())
    throw FailedAfresh{visit.seen.faults.front().text};
  const double took_s = RunState::seconds_between(since_ns, run_.visit_ended_ns);
  run_.visit_s[r.index] = took_s;
  r.spent_s += took_s;
  renewing_s_ += visit.renewing_s;
  visiting_s_ += took_s - visit.renewing_s;
  facts_.neighbours_cpu_s += visit.neighbours_cpu_s;
  r.visited = true;
  if (r.fresh) ++r.stand;
  r.fresh = !keep_process || visit.replace || visit.over;
  keep(r, std::move(visit), took_s);
}

double BlockRun::next_generation_s() const noexcept {
  double seconds = last_generation_s_;
  for (const Running& r : cells_) seconds -= r.over && !r.baseline() ? r.spent_s : 0;
  return std::max(0.0, seconds);
}

// A hang is waited for once a cell, and all hangs of a variant for a tenth of the budget: its other cells are not tried
// then.
void BlockRun::end_if_it_hangs(Running& r, double took_s) {
  const Cell& cell = run_.record.cells[r.index];
  double& hung_s = run_.hung_s[cell.key()];
  hung_s += took_s;
  if (!run_.budget.limited() || hung_s < hangs_share * run_.budget.total_s()) return;
  for (Running& other : cells_) {
    const Cell& its = run_.record.cells[other.index];
    if (!other.baseline() && its.key() == cell.key() && its.attempt == cell.attempt) other.over = true;
  }
}

void BlockRun::keep(Running& r, Visit visit, double took_s) {
  for (Trial& trial : visit.seen.trials) {
    trial.stand = r.stand;
    trial.generation = generation_;
    trial.confirming = confirming_;
    if (facts_.block > 0) trial.block = facts_.block;
    trial.order = ++run_.trials;
    if (visit.began_ns != 0)
      trial.start_s = run_.began_at_s + RunState::seconds_between(run_.started_ns, visit.began_ns);
  }
  const bool leaked = std::any_of(visit.seen.faults.begin(), visit.seen.faults.end(),
                                  [](const Fault& fault) { return fault.kind == Fault::Kind::left_work; });
  if (leaked && ++r.leaks >= most_leaks) r.over = true;
  constexpr int most_wrong = 2;  // after these nothing new is learnt
  const auto has = [&](Fault::Kind kind) {
    return std::any_of(visit.seen.faults.begin(), visit.seen.faults.end(),
                       [&](const Fault& fault) { return fault.kind == kind; });
  };
  if (has(Fault::Kind::wrong_answer) && ++r.wrong >= most_wrong && !r.baseline()) r.over = true;
  if (has(Fault::Kind::timed_out) && !r.baseline()) end_if_it_hangs(r, took_s);
  r.over = r.over || visit.over;
  RecordStep step;
  if (visit.dropped != Visit::Dropped::no) {
    const bool asleep = visit.dropped == Visit::Dropped::asleep;
    step.dropped = DroppedTrials{asleep ? 1 : 0, asleep ? 0 : 1};
  }
  step.visited.emplace();
  step.visited->cell = r.index;
  step.visited->seen = std::move(visit.seen);
  run_.add(std::move(step));
}

}  // namespace antcrew::internal
