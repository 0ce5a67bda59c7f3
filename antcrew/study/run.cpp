#include "antcrew/study/run.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <random>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/stages.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/noise.hpp"
#include "antcrew/study/internal/run_parts.hpp"
#include "antcrew/study/internal/same_study.hpp"
#include "antcrew/study/local_host.hpp"
#include "antcrew/study/stands_host.hpp"

namespace antcrew {
namespace {

constexpr int rounds_of_a_stand = 3;      // then every cell gets a new process, so that its luck averages out
constexpr int most_leaks = 3;             // trials that left work running; after these nothing new is learnt
constexpr std::size_t crowd_samples = 3;  // of c(p), each with new processes
constexpr double crowd_share = 0.1;       // of a block's time at most
constexpr double first_look_s = 0.2;      // at the load of others

template <class T>
void append(std::vector<T>& to, std::vector<T>&& more) {
  to.insert(to.end(), std::make_move_iterator(more.begin()), std::make_move_iterator(more.end()));
}

// One cell of the block under way.
struct Running {
  std::size_t index;  // into the record's cells
  CellSpec spec;
  StageWatch stages;
  bool over = false;
  int stand = 0;
  int leaks = 0;
  bool fresh = true;  // its next visit begins a new stand
};

class Run {
 public:
  Run(const StudyBase& study, const Plan& plan, const RunHooks& hooks, const BuildFacts& build)
      : study_(study), plan_(plan), hooks_(hooks), started_ns_(now_ns()) {
    record_.machine = this_machine();
    grid_ = decide(study, plan, record_.machine.usable_processors());
    record_.library_version = library_version();
    record_.created = internal::utc_now();
    record_.title = study.title();
    record_.agreement = study.agreement();
    record_.build = build;
#if defined(__OPTIMIZE__)
    record_.build.library_optimised = true;
#endif
    record_.build.program_hash = internal::program_hash();
    const bool staged = plan.rounds == 0;
    record_.plan = {staged ? stage_ends[1] : plan.rounds,
                    staged ? stage_ends.back() : plan.rounds,
                    plan.width,
                    plan.budget_s,
                    plan.seed != 0 ? plan.seed : internal::fresh_seed(),
                    plan.stands,
                    static_cast<bool>(study.growth()),
                    internal::asked_by(plan)};
    record_.points = grid_.points;
    record_.ladders = study.ladders();
    for (std::size_t point = 0; point < grid_.points.size(); ++point) add_cells(point);
    const HostLimits limits{plan.call_limit_s, plan.memory_limit_bytes, hooks.stop};
    if (plan.stands) {
      host_ = std::make_unique<StandsHost>(study, limits);
    } else {
      host_ = std::make_unique<LocalHost>(study, limits);
    }
  }

  // Takes over what a record has; the grid must be the same.
  void go_on_from(const Record& begun) {
    internal::check_same_study(begun, record_, !plan_.again.empty());
    const PlanFacts asked = record_.plan;
    const BuildFacts build = record_.build;
    record_ = begun;
    record_.plan = asked;
    record_.plan.seed = begun.plan.seed;
    record_.build = build;
    record_.complete = false;
    measured_before_s_ = begun.measured_s;
    if (!plan_.again.empty()) add_attempt();
  }

  Record all_blocks() {
    random_.seed(record_.plan.seed + record_.cells.front().trials.size());
    record_.load_before = other_load(first_look_s);
    try {
      for (std::size_t point = 0; point < record_.points.size(); ++point) block(point);
      record_.complete = true;
    } catch (const Stopped&) {
      host_->close();
      drop_round_in_flight();
    }
    record_.measured_s = measured_before_s_ + elapsed_s();
    return std::move(record_);
  }

 private:
  double elapsed_s() const {
    return static_cast<double>(now_ns() - started_ns_) * 1e-9;
  }

  void add_cells(std::size_t point) {
    Cell baseline;
    baseline.variant = "baseline";
    baseline.crew = "none";
    baseline.kind = Cell::Kind::baseline;
    baseline.point = point;
    record_.cells.push_back(std::move(baseline));
    for (const VariantDefinition* variant : grid_.variants) {
      for (const int workers : grid_.workers_at(grid_.points[point])) {
        record_.cells.push_back(internal::empty_cell(*variant, workers, point));
      }
    }
  }

  // The variant to be tried again gets empty cells of its own; its old trials stay as earlier attempts.
  void add_attempt() {
    Plan one = plan_;
    one.variants = {plan_.again};
    grid_ = decide(study_, one, record_.machine.usable_processors());
    const std::size_t count = record_.cells.size();
    for (std::size_t point = 0; point < grid_.points.size(); ++point) add_cells(point);
    std::vector<Cell> added(std::make_move_iterator(record_.cells.begin() + static_cast<std::ptrdiff_t>(count)),
                            std::make_move_iterator(record_.cells.end()));
    record_.cells.resize(count);
    for (Cell& cell : added) {
      if (cell.kind == Cell::Kind::baseline) continue;
      cell.attempt = last_attempt(cell, count) + 1;
      record_.cells.push_back(std::move(cell));
    }
  }

  int last_attempt(const Cell& of, std::size_t count) const {
    int last = 0;
    for (std::size_t i = 0; i < count; ++i) {
      const Cell& cell = record_.cells[i];
      if (cell.variant == of.variant && cell.crew == of.crew) last = std::max(last, cell.attempt);
    }
    return last;
  }

  const VariantDefinition* definition_of(const Cell& cell) const {
    for (const VariantDefinition* variant : grid_.variants) {
      if (variant->name == cell.variant && variant->crew == cell.crew) return variant;
    }
    return nullptr;
  }

  // What is tried in this block: the newest attempt of each variant, the baseline first.
  std::vector<Running> cells_of(std::size_t point) const {
    std::vector<Running> running;
    for (std::size_t i = 0; i < record_.cells.size(); ++i) {
      const Cell& cell = record_.cells[i];
      if (cell.point != point) continue;
      const bool baseline = cell.kind == Cell::Kind::baseline;
      const VariantDefinition* variant = baseline ? nullptr : definition_of(cell);
      if ((!baseline && variant == nullptr) || !is_newest(cell)) continue;
      Running r{i, {variant, cell.workers, record_.points[point].pin}, StageWatch(record_.plan.width)};
      r.stand = cell.trials.empty() ? 0 : cell.trials.back().stand;
      r.over = gave_up(cell);
      running.push_back(r);
    }
    return running;
  }

  bool is_newest(const Cell& cell) const {
    return std::none_of(record_.cells.begin(), record_.cells.end(), [&](const Cell& other) {
      return other.variant == cell.variant && other.crew == cell.crew && other.workers == cell.workers &&
             other.point == cell.point && other.attempt > cell.attempt;
    });
  }

  static bool gave_up(const Cell& cell) {
    return std::any_of(cell.faults.begin(), cell.faults.end(), [](const Fault& fault) {
      return fault.kind != Fault::Kind::wrong_answer && fault.kind != Fault::Kind::left_work &&
             fault.kind != Fault::Kind::threads_left;
    });
  }

  int rounds_done(std::size_t point) const {
    int last = 0;
    for (const Cell& cell : record_.cells) {
      if (cell.point == point && !cell.trials.empty()) last = std::max(last, cell.trials.back().round);
    }
    return last;
  }

  // An equal share of what is left, for each point still to come.
  double block_ends_s(std::size_t point) const {
    const double left = std::max(0.0, plan_.budget_s - elapsed_s());
    return elapsed_s() + left / static_cast<double>(record_.points.size() - point);
  }

  void block(std::size_t point) {
    running_ = cells_of(point);
    first_round_ = rounds_done(point) + 1;
    const int again = plan_.again.empty() ? 0 : first_round_ - 1;  // a new attempt has rounds of its own
    last_round_ = record_.plan.most_rounds + again;
    if (first_round_ > last_round_ || running_.size() < 2 || running_[0].over) return;
    block_started_s_ = elapsed_s();
    block_ends_at_s_ = block_ends_s(point);
    BlockFacts facts;
    facts.point = point;
    const MachineTimes before = machine_times();
    const double own_before = internal::own_cpu_s();
    std::vector<CellSpec> specs;
    for (const Running& r : running_) specs.push_back(r.spec);
    auto fault = host_->open(record_.points[point], specs, facts);
    const bool fatal = fault && fault->kind != Fault::Kind::threads_left;
    if (fault) record_.cells[running_[0].index].faults.push_back(std::move(*fault));
    if (!fatal) {
      state_memory(facts);
      rounds(point, facts);
    }
    host_->close();
    note_noise(facts, before, own_before);
    record_.blocks.push_back(facts);
    if (hooks_.on_round) hooks_.on_round(record_);
  }

  void rounds(std::size_t point, const BlockFacts& facts) {
    for (round_ = first_round_; round_ <= last_round_ && !running_[0].over; ++round_) {
      if (round_ > first_round_ && (round_ - first_round_) % rounds_of_a_stand == 0) renew();
      if ((round_ - first_round_) % rounds_of_a_stand == 0) crowds(point, facts);
      one_round(point);
      record_.measured_s = measured_before_s_ + elapsed_s();
      if (hooks_.on_round) hooks_.on_round(record_);
      if (all_finished(point)) break;
      if (plan_.budget_s > 0 && elapsed_s() >= block_ends_at_s_) break;
    }
  }

  void renew() {
    host_->renew();
    for (Running& r : running_) r.fresh = true;
  }

  // At the end of a stage, cells that need no more rounds are left out of those to come.
  bool all_finished(std::size_t point) {
    const int done = round_ - (plan_.again.empty() ? 0 : first_round_ - 1);
    if (plan_.rounds == 0 && is_stage_end(done)) {
      const Cell* baseline = baseline_of(record_, point);
      for (Running& r : running_) {
        if (r.over || r.spec.variant == nullptr) continue;
        const auto ratio = ratio_by_round(*baseline, record_.cells[r.index], staged_level);
        r.over = ratio && r.stages.finished(*ratio);
      }
    }
    return std::all_of(running_.begin() + 1, running_.end(), [](const Running& r) { return r.over; });
  }

  void one_round(std::size_t point) {
    std::vector<std::size_t> others;
    for (std::size_t i = 1; i < running_.size(); ++i) {
      if (!running_[i].over) others.push_back(i);
    }
    const std::vector<std::size_t> order = internal::order_of_round(0, std::move(others), random_);
    for (std::size_t step = 0; step < order.size() && !running_[0].over; ++step) {
      Running& r = running_[order[step]];
      if (hooks_.stop && hooks_.stop()) throw Stopped{};
      tell_progress(point, static_cast<double>(step) / static_cast<double>(order.size()), record_.cells[r.index]);
      keep(r, host_->visit(order[step], round_));
    }
  }

  void keep(Running& r, Visit visit) {
    Cell& cell = record_.cells[r.index];
    if (r.fresh) ++r.stand;
    r.fresh = visit.replace || visit.over;
    for (Trial& trial : visit.seen.trials) trial.stand = r.stand;
    const auto leaked = std::count_if(visit.seen.faults.begin(), visit.seen.faults.end(),
                                      [](const Fault& fault) { return fault.kind == Fault::Kind::left_work; });
    if (leaked > 0 && ++r.leaks >= most_leaks) r.over = true;
    r.over = r.over || visit.over;
    if (!visit.seen.startup_s.empty()) {
      cell.asked_processors = visit.seen.asked_processors;
      cell.granted_processors = visit.seen.granted_processors;
    }
    append(cell.startup_s, std::move(visit.seen.startup_s));
    append(cell.cold_s, std::move(visit.seen.cold_s));
    append(cell.tree_bytes, std::move(visit.seen.tree_bytes));
    append(cell.trials, std::move(visit.seen.trials));
    append(cell.faults, std::move(visit.seen.faults));
  }

  void crowds(std::size_t point, const BlockFacts& facts) {
    if (!plan_.crowd || facts.own_inputs || !plan_.again.empty()) return;
    std::vector<int> counts{1};
    for (const int workers : grid_.workers_at(record_.points[point])) {
      if (workers > 1 && workers <= record_.machine.usable_processors()) counts.push_back(workers);
    }
    if (std::any_of(record_.crowds.begin(), record_.crowds.end(), [&](const CrowdFacts& crowd) {
          return crowd.point == point && crowd.time_s.size() >= crowd_samples;
        })) {
      return;
    }
    const double calls_s = 8 * facts.reference_s * static_cast<double>(counts.size());
    if (plan_.budget_s > 0 && calls_s > crowd_share * (block_ends_at_s_ - block_started_s_)) return;
    for (const int copies : counts) {
      if (const auto time_s = host_->crowd(copies)) crowd_at(point, copies).time_s.push_back(*time_s);
    }
  }

  CrowdFacts& crowd_at(std::size_t point, int copies) {
    for (CrowdFacts& crowd : record_.crowds) {
      if (crowd.point == point && crowd.copies == copies) return crowd;
    }
    record_.crowds.push_back({point, copies, {}});
    return record_.crowds.back();
  }

  void state_memory(const BlockFacts& facts) const {
    const std::uint64_t free = read_limits().available_bytes;
    // Input and reference are shared; the stand on trial makes answers, or a copy, of its own.
    const std::uint64_t needed = 2 * facts.input_bytes;
    if (hooks_.on_note && needed > free / 2) {
      hooks_.on_note(fmt::format("size {} needs about {} of the {} that are free", record_.points[facts.point].size,
                                 bytes_text(needed), bytes_text(free)));
    }
  }

  void note_noise(BlockFacts& facts, const MachineTimes& before, double own_before) const {
    const MachineTimes after = machine_times();
    facts.wall_s = elapsed_s() - block_started_s_;
    facts.own_cpu_s = internal::own_cpu_s() - own_before;
    facts.other_cpu_s = std::max(0.0, after.busy_s - before.busy_s - facts.own_cpu_s);
    facts.steal_s = std::max(0.0, after.steal_s - before.steal_s);
    facts.throttled_s = std::max(0.0, after.throttled_s - before.throttled_s);
  }

  // A round that was not finished would pair cells with only part of their baselines.
  void drop_round_in_flight() {
    for (const Running& r : running_) {
      Cell& cell = record_.cells[r.index];
      while (!cell.trials.empty() && cell.trials.back().round == round_) cell.trials.pop_back();
    }
  }

  void tell_progress(std::size_t point, double of_round, const Cell& cell) const {
    if (!hooks_.on_visit) return;
    const double rounds = (round_ - first_round_ + of_round) / (last_round_ - first_round_ + 1);
    const double time =
        plan_.budget_s > 0 ? (elapsed_s() - block_started_s_) / std::max(block_ends_at_s_ - block_started_s_, 1e-9) : 0;
    const double of_block = std::min(1.0, std::max(rounds, time));
    const double share = (static_cast<double>(point) + of_block) / static_cast<double>(record_.points.size());
    const double left = share > 0 ? elapsed_s() * (1 - share) / share : 0;
    hooks_.on_visit({share, elapsed_s(), left, record_.points[point].size, cell.variant, cell.workers});
  }

  const StudyBase& study_;
  const Plan plan_;
  const RunHooks& hooks_;
  std::unique_ptr<Host> host_;
  std::int64_t started_ns_;
  double measured_before_s_ = 0;
  Grid grid_;
  Record record_;
  std::mt19937_64 random_;
  std::vector<Running> running_;
  int round_ = 0;
  int first_round_ = 1;
  int last_round_ = 0;
  double block_started_s_ = 0;
  double block_ends_at_s_ = 0;
};

}  // namespace

Record run(const StudyBase& study, const Plan& plan, const RunHooks& hooks, const BuildFacts& build) {
  return Run(study, plan, hooks, build).all_blocks();
}

Record run_on(const StudyBase& study, const Record& begun, const Plan& plan, const RunHooks& hooks,
              const BuildFacts& build) {
  Run run(study, internal::as_begun(plan, begun), hooks, build);
  run.go_on_from(begun);
  return run.all_blocks();
}

}  // namespace antcrew
