#include "antcrew/study/run.hpp"

#include <algorithm>
#include <memory>

#include "antcrew/analysis/stages.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/study_lock.hpp"
#include "antcrew/machine/yardstick.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/internal/confirming.hpp"
#include "antcrew/study/internal/exploring.hpp"
#include "antcrew/study/internal/launcher.hpp"
#include "antcrew/study/internal/resume_check.hpp"
#include "antcrew/study/internal/run_parts.hpp"
#include "antcrew/study/internal/source_lines.hpp"
#include "antcrew/study/local_host.hpp"
#include "antcrew/study/process_host.hpp"
#include "antcrew/study/run_loop.hpp"

namespace antcrew {

using namespace layers;

namespace {

using internal::RunState;

constexpr double first_look_s = 0.2;  // at the load of others

void add_cells(const RunState& run, Record& to, std::size_t point) {
  Cell baseline;
  baseline.variant = "baseline";
  baseline.crew = "none";
  baseline.kind = Cell::Kind::baseline;
  baseline.point = point;
  to.cells.push_back(std::move(baseline));
  for (const std::size_t number : run.grid.variants) {
    const VariantOutline& variant = run.study.variants()[number];
    for (const int workers : run.grid.workers_of(variant, run.grid.points[point]))
      to.cells.push_back(internal::empty_cell(variant, workers, point));
  }
}

void describe(const RunState& run, Record& record) {
  const bool staged = run.plan.rounds == 0;
  record.title = run.study.title();
  record.agreement = run.study.agreement();
  record.plan.least_rounds = staged ? stage_ends[1] : run.plan.rounds;
  record.plan.most_rounds = staged ? stage_ends.back() : run.plan.rounds;
  record.plan.width = run.plan.width;
  record.plan.budget_s = run.plan.budget_s;
  record.plan.seed = run.plan.seed != 0 ? run.plan.seed : internal::fresh_seed();
  record.plan.stands = run.plan.stands;
  record.plan.weak_scaling = static_cast<bool>(run.study.growth());
  record.plan.confirm = run.plan.confirm;
  record.plan.matters = run.plan.matters;
  record.plan.launches = run.plan.launches;
  record.plan.inputs = run.study.input_count();
  record.plan.asked = internal::asked_by(run.plan);
  record.points = run.grid.points;
  record.ladders = run.study.ladders();
  for (const Outline::Source& source : run.study.sources())
    record.sources.push_back(internal::lines_of(source.of, source.file, source.part));
  for (std::size_t point = 0; point < run.grid.points.size(); ++point) add_cells(run, record, point);
}

int last_attempt(const Record& record, const Cell& of) {
  int last = 0;
  for (const Cell& cell : record.cells) {
    if (cell.kind != Cell::Kind::baseline && cell.key() == of.key()) last = std::max(last, cell.attempt);
  }
  return last;
}

// The variant to be tried again gets empty cells of its own, and a baseline; its old trials stay as an earlier attempt.
void add_attempt(RunState& run) {
  Plan one = run.plan;
  one.variants = {run.plan.again};
  run.grid = decide(run.study, one, run.record.machine.usable_processors());
  Record fresh;
  for (std::size_t point = 0; point < run.grid.points.size(); ++point) add_cells(run, fresh, point);
  const auto variant = std::find_if(fresh.cells.begin(), fresh.cells.end(),
                                    [](const Cell& cell) { return cell.kind != Cell::Kind::baseline; });
  const int attempt = last_attempt(run.record, *variant) + 1;
  const std::string key = variant->key();
  for (Cell& cell : fresh.cells) {
    cell.attempt = attempt;
    if (cell.kind == Cell::Kind::baseline) cell.baseline_for = key;
    run.record.cells.push_back(std::move(cell));
  }
}

// Takes over what a record has; the grid must be the same.
void go_on_from(RunState& run, const Record& begun) {
  internal::check_resume(begun, run.record, !run.plan.again.empty());
  const PlanFacts asked = run.record.plan;
  const BuildFacts build = run.record.build;
  const std::string now = run.record.created;
  run.record = begun;
  run.record.plan = asked;
  run.record.plan.seed = begun.plan.seed;
  run.record.plan.matters = begun.plan.matters;  // it was fixed before the first trial
  run.record.build = build;
  run.record.complete = false;
  run.record.left_out.clear();
  run.measured_before_s = begun.measured_s;
  run.began_at_s = std::max(begun.measured_s, internal::seconds_from_to(begun.created, now));
  for (const Cell& cell : begun.cells) run.trials += static_cast<int>(cell.trials.size());
  if (!run.plan.again.empty()) add_attempt(run);
}

void tell_of_other_studies(RunState& run) {
  if (run.record.another_study || run.tools.alone()) return;
  run.record.another_study = true;
  run.note("another study is being measured on this machine: each of the two is noise to the other");
}

void all_of_it(RunState& run) {
  try {
    run.wait_until_idle();
    run.time_yardstick(true);
    internal::explore(run);
    run.time_yardstick(true);
    tell_of_other_studies(run);
    if (run.plan.confirm && run.plan.again.empty() && run.budget.confirms()) internal::confirm(run);
    run.time_yardstick(true);
    run.record.complete = true;
  } catch (const Stopped&) {
    run.tools.host.close();
  }
  tell_of_other_studies(run);
  run.record.measured_s = run.measured_before_s + run.elapsed_s();
}

// What no cell could be launched with is found before the first second is spent.
void check_launcher(const StudyBase& study, const Plan& plan) {
  const Grid grid = decide(study, plan, usable_processors_now());
  for (const std::size_t variant : grid.variants) {
    if (study.launched(variant) == nullptr) continue;
    const std::string launcher = plan.launcher.empty() ? internal::usual_launcher() : plan.launcher;
    for (const Point& point : grid.points) {
      for (const int workers : grid.workers_of(study.variants()[variant], point)) {
        internal::launcher_words(launcher, workers, point);
        internal::processes_for(workers, point);
      }
    }
  }
}

Record run_all(const StudyBase& study, const Plan& plan, const RunHooks& hooks, const FileBuild& build,
               const Record* begun) {
  Record fresh;
  fresh.build = {build.compiler, build.flags, build.build_type, build.optimised, false, {}, build.sanitizers};
#if defined(__OPTIMIZE__)
  fresh.build.library_optimised = true;
#endif
  fresh.build.program_hash = internal::program_hash();
  if (plan.stands) check_launcher(study, plan);
  const HostLimits limits{plan.call_limit_s, plan.memory_limit_bytes, hooks.stop,
                          plan.let_print,    plan.budget_s,           plan.launcher};
  const auto make_host = [&]() -> std::unique_ptr<Host> {
    if (plan.stands) return std::make_unique<ProcessHost>(study, limits);
    return std::make_unique<LocalHost>(study, limits);
  };
  return run_hosted(make_host, study, plan, hooks, std::move(fresh), begun);
}

}  // namespace

namespace study_layer {

Record run_with(const RunTools& tools, const Outline& study, const Plan& plan, const RunHooks& hooks, Record fresh,
                const Record* begun) {
  RunState run{tools, study, plan, hooks};
  run.started_ns = tools.now_ns();
  run.budget = internal::Budget(plan.budget_s, plan.confirm && plan.again.empty());
  run.grid = decide(study, plan, tools.machine.usable_processors());
  run.record = std::move(fresh);
  run.record.machine = tools.machine;
  describe(run, run.record);
  if (begun != nullptr) go_on_from(run, *begun);
  run.record.load_before = tools.load_before;
  run.random.seed(run.record.plan.seed + static_cast<std::uint64_t>(run.trials));
  tell_of_other_studies(run);
  if (hooks.on_begin) hooks.on_begin(run.record);
  all_of_it(run);
  return std::move(run.record);
}

Record run_hosted(const std::function<std::unique_ptr<Host>()>& make_host, const Outline& study, const Plan& asked,
                  const RunHooks& hooks, Record fresh, const Record* begun) {
  const Plan plan = begun == nullptr ? asked : internal::as_begun(asked, *begun);
  fresh.machine = this_machine();
  fresh.library_version = library_version();
  fresh.created = internal::utc_now();
  fresh.run = internal::fresh_run();
  decide(study, plan, fresh.machine.usable_processors());  // what cannot be run is refused before anything is forked
  StudyLock lock;
  const Yardstick yardstick;
  const std::unique_ptr<Host> host = make_host();
  RunTools tools{*host};
  tools.machine = fresh.machine;
  tools.own_cpu_s = [&host] { return internal::own_cpu_s() + host->own_cpu_s(); };
  tools.alone = [&lock] { return lock.alone(); };
  tools.load_before = other_load(first_look_s);
  tools.other_load = [](double seconds) { return other_load(seconds); };
  tools.yardstick = [&yardstick](bool stream) {
    YardstickFacts facts;
    facts.edition = yardstick_edition;
    if (stream) {
      facts.stream_s = {yardstick.stream_s()};
      return facts;
    }
    facts.arithmetic_s = {yardstick.arithmetic_s()};
    if (const double wake_s = yardstick.wake_s(); wake_s > 0) facts.wake_s = {wake_s};
    return facts;
  };
  return run_with(tools, study, plan, hooks, std::move(fresh), begun);
}

}  // namespace study_layer

Record run(const StudyBase& study, const Plan& plan, const RunHooks& hooks, const FileBuild& build) {
  return run_all(study, plan, hooks, build, nullptr);
}

Record run_on(const StudyBase& study, const Record& begun, const Plan& plan, const RunHooks& hooks,
              const FileBuild& build) {
  return run_all(study, plan, hooks, build, &begun);
}

}  // namespace antcrew
