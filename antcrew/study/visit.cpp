#include "antcrew/study/visit.hpp"

#include <fmt/format.h>
#include <sched.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <new>
#include <random>

#include "antcrew/base/type_name.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/crew/process_errors.hpp"
#include "antcrew/machine/afterwork.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/jostle.hpp"
#include "antcrew/machine/processors.hpp"
#include "antcrew/machine/topology.hpp"
#include "antcrew/machine/tree_memory.hpp"
#include "antcrew/machine/usage.hpp"

namespace antcrew {
namespace {

// A trial lasts this long at least: a thousand times what reading the clock costs. Shorter calls are repeated.
constexpr double shortest_trial_s = 200e-6;
constexpr double most_calls = 1'000'000;

constexpr double settled_within = 0.02;
constexpr double long_call_s = 1;         // one settling call is enough for these
constexpr int most_settling_trials = 10;  // on a machine that never comes to rest
constexpr double longest_settling_s = 0.5;
constexpr double longest_comparing_s = 2e-3;  // beyond the last answer's

// A call that used less CPU than this share of the baseline's, while others used as much after it, did not wait.
constexpr double too_little_inside = 0.5;
constexpr double much_afterwards = 0.3;
constexpr double least_judged_cpu_s = 1e-3;

Fault threw(int round, const std::string& during, const std::string& what) {
  return {Fault::Kind::threw, round, during.empty() ? what : during + " threw " + what};
}

std::size_t calls_for(double call_s) {
  if (call_s >= shortest_trial_s) return 1;
  return static_cast<std::size_t>(std::clamp(std::ceil(shortest_trial_s / std::max(call_s, 1e-10)), 1.0, most_calls));
}

// A first call may start a pool that goes on looking for work for a while; later ones have no such excuse.
bool did_not_wait(double inside_cpu_s, const Leftover& left, const Reference& reference, bool first_call) {
  if (left.certain()) return true;
  if (left.still_running && (left.processes_begun > 0 || (left.threads_begun > 0 && !first_call))) return true;
  return reference.cpu_s > least_judged_cpu_s && inside_cpu_s < too_little_inside * reference.cpu_s &&
         left.cpu_s > much_afterwards * reference.cpu_s;
}

std::string counted(int count, const char* one, const char* many) {
  return fmt::format("{} {}", count, count == 1 ? one : many);
}

Fault left_work(int round, double wall_s, const Leftover& left) {
  std::string text =
      fmt::format("the call returned after {}, its work went on for {}{} more, {} of CPU time", duration_text(wall_s),
                  left.still_running ? "at least " : "", duration_text(left.went_on_s), duration_text(left.cpu_s));
  if (left.threads_ended > 0) text += ", in " + counted(left.threads_ended, "thread", "threads") + " that ended later";
  if (left.processes_ended > 0)
    text += ", in " + counted(left.processes_ended, "process", "processes") + " that ended later";
  if (left.still_running && left.processes_begun > 0)
    text += ", in " + counted(left.processes_begun, "process", "processes");
  Fault fault{Fault::Kind::left_work, round, text};
  fault.evidence = {{"call_s", wall_s},
                    {"went_on_s", left.went_on_s},
                    {"went_on_cpu_s", left.cpu_s},
                    {"threads_ended", left.threads_ended},
                    {"processes_ended", left.processes_ended}};
  return fault;
}

void keep_usage(Trial& trial, const Usage& used) {
  const double calls = static_cast<double>(trial.calls);
  trial.user_s = used.user_s / calls;
  trial.system_s = used.system_s / calls;
  trial.others_cpu_s = std::max(0.0, used.cpu_s() - used.caller_s) / calls;
  trial.run_delay_s = used.run_delay_s / calls;
  trial.switches_voluntary = used.switches_voluntary;
  trial.switches_forced = used.switches_forced;
  trial.faults_minor = used.faults_minor;
  trial.faults_major = used.faults_major;
}

void keep_journal(Trial& trial, const internal::Journal& journal) {
  for (const auto& [name, phase] : journal.phases()) trial.phases[name] = {phase.seconds, phase.count};
  trial.counters = journal.counters();
  if (journal.lost() > 0) trial.counters["phases not logged"] = static_cast<double>(journal.lost());
}

void pin_this_thread(Pin pin) {
  const auto order = processor_order(pin == Pin::near ? Nearness::near : Nearness::apart);
  if (order.empty()) return;
  internal::ProcessorSet one;
  one.add(order.front());
  internal::keep_on(0, one);
}

// Moves the calling thread to a random processor, and lets it go again. Processors of one machine differ (a neighbour
// under the same hypervisor, a hotter core), and a process tends to stay where it is: without this, all rounds of a
// cell would share the luck of one placement, and rounds would not be independent.
void change_places() {
  cpu_set_t allowed;
  if (sched_getaffinity(0, sizeof allowed, &allowed) != 0) return;
  const int count = CPU_COUNT(&allowed);
  if (count < 2) return;
  static std::minstd_rand random(static_cast<unsigned>(now_ns()) ^ static_cast<unsigned>(getpid()));
  int chosen = static_cast<int>(random() % static_cast<unsigned>(count));
  for (int cpu = 0; cpu < CPU_SETSIZE; ++cpu) {
    if (!CPU_ISSET(cpu, &allowed) || chosen-- > 0) continue;
    cpu_set_t one;
    CPU_ZERO(&one);
    CPU_SET(cpu, &one);
    if (sched_setaffinity(0, sizeof one, &one) == 0) sched_setaffinity(0, sizeof allowed, &allowed);
    return;
  }
}

}  // namespace

const char* name_of(Stage stage) noexcept {
  switch (stage) {
    case Stage::starting:
      return "while starting its crew";
    case Stage::making_input:
      return "while making the input";
    case Stage::baseline:
      return "in the baseline's first call";
    case Stage::calling:
      return "in a call";
    case Stage::comparing:
      return "while answers were compared";
    case Stage::idle:
      break;
  }
  return "between calls";
}

std::optional<Fault> caught(const std::function<void()>& work, int round, const std::string& during) {
  try {
    work();
    return std::nullopt;
  } catch (const std::bad_alloc&) {
    return Fault{Fault::Kind::out_of_memory, round,
                 (during.empty() ? "" : during + ": ") + "an allocation was refused (std::bad_alloc)"};
  } catch (const WorkerThrew& error) {
    if (error.out_of_memory()) return Fault{Fault::Kind::out_of_memory, round, error.what()};
    return threw(round, during, error.what());
  } catch (const ProcessDied& died) {
    const bool overran = died.reason() == ProcessDied::Reason::deadline;
    return Fault{overran ? Fault::Kind::timed_out : Fault::Kind::crashed, round, died.what()};
  } catch (...) {
    const Thrown thrown = thrown_here();
    return threw(round, during, thrown.text.empty() ? thrown.type : thrown.type + ": " + thrown.text);
  }
}

Visitor::Visitor(const StudyBase& study, const CellSpec& spec, Anything input, Anything reference_answer,
                 const Reference& reference, StandBoard* board)
    : study_(study),
      spec_(spec),
      input_(std::move(input)),
      reference_answer_(std::move(reference_answer)),
      reference_(reference),
      board_(board) {}

Visitor::~Visitor() {
  internal::Journal::destroy(journal_);
}

void Visitor::tell(Stage stage) noexcept {
  if (board_ == nullptr) return;
  board_->stage.store(static_cast<int>(stage), std::memory_order_relaxed);
  board_->progress.fetch_add(1, std::memory_order_relaxed);
}

double Visitor::call_s(std::size_t calls) {
  tell(Stage::calling);
  const double seconds = static_cast<double>(session_->call_ns(input_, calls)) * 1e-9;
  tell(Stage::idle);
  return seconds;
}

// Long enough for work as long as the baseline's to end, short enough for a pool that merely sleeps.
double Visitor::patience_s() const noexcept {
  return std::clamp(3 * reference_.wall_s, 0.1, 5.0);
}

// Starts the crew and makes the call that pays for everything that happens once.
void Visitor::start(Visit& visit) {
  tell(Stage::starting);
  if (journal_ == nullptr) journal_ = internal::Journal::create();
  const std::int64_t start = now_ns();
  if (spec_.variant == nullptr) {
    if (spec_.pin != Pin::off) pin_this_thread(spec_.pin);
    session_ = study_.open_baseline();
  } else {
    CrewOptions options = spec_.variant->options;
    if (options.pin == Pin::off) options.pin = spec_.pin;
    session_ = spec_.variant->open(spec_.workers, options);
  }
  visit.seen.startup_s.push_back(static_cast<double>(now_ns() - start) * 1e-9);
  if (const auto crew = session_->crew_facts()) {
    visit.seen.asked_processors = crew->asked_processors;
    visit.seen.granted_processors = crew->granted_processors;
  }
  pinned_ = spec_.pin != Pin::off || !visit.seen.asked_processors.empty();
  session_->prepare(input_, 1);
  const Afterwork watch;
  const Usage before = usage_before();
  const double cold_s = call_s(1);
  const Usage used = usage_after() - before;
  const Leftover left = watch.look(patience_s());
  session_->drop_answers();
  visit.seen.cold_s.push_back(cold_s);
  if (did_not_wait(used.cpu_s(), left, reference_, true)) {
    leaves_work_ = true;
    visit.seen.faults.push_back(left_work(0, cold_s, left));
  }
}

// Calls until two in a row agree, so that caches, clock frequency and the crew are as they are in steady use.
Visitor::Settled Visitor::settle() {
  Settled s;
  const auto call = [&] {
    session_->prepare(input_, s.calls_each);
    const double seconds = call_s(s.calls_each);
    session_->drop_answers();
    s.total_s += seconds;
    s.calls += static_cast<int>(s.calls_each);
    return seconds / static_cast<double>(s.calls_each);
  };
  double last = s.first_s = call();
  if (last > long_call_s) return s;
  s.calls_each = calls_for(last);
  for (int trials = 1; trials < most_settling_trials; ++trials) {
    const double now = call();
    const bool agree = std::fabs(now - last) <= settled_within * std::min(now, last);
    last = now;
    s.calls_each = calls_for(now);
    if (agree || s.total_s > longest_settling_s) break;
  }
  return s;
}

// The last answer, which is timed, and as many of the others as there is time for: when a trial has many they are
// short.
Difference Visitor::compare_answers(double& compare_s) {
  const std::size_t last = session_->kept() - 1;
  const std::int64_t start = now_ns();
  const auto elapsed_s = [&] { return static_cast<double>(now_ns() - start) * 1e-9; };
  Difference difference = session_->compare(reference_answer_, last);
  compare_s = elapsed_s();
  for (std::size_t k = 0; k < last && difference.agree && elapsed_s() < longest_comparing_s; ++k) {
    difference = session_->compare(reference_answer_, k);
  }
  return difference;
}

void Visitor::note_agreement(Visit& visit, Trial& trial) {
  tell(Stage::comparing);
  const bool probe = spec_.variant != nullptr && spec_.variant->kind == Cell::Kind::probe;
  if (probe) return;
  Difference difference;
  const auto fault =
      caught([&] { difference = compare_answers(trial.compare_s); }, trial.round, "comparing the answers");
  if (fault) {
    trial.agreed = false;
    visit.seen.faults.push_back(*fault);
  } else if (!difference.agree) {
    trial.agreed = false;
    Fault wrong{Fault::Kind::wrong_answer, trial.round, difference.in_words()};
    wrong.evidence = {{"differing", static_cast<double>(difference.differing)},
                      {"compared", static_cast<double>(difference.compared)}};
    if (difference.numeric && std::isfinite(difference.largest))
      wrong.evidence["largest_difference"] = difference.largest;
    visit.seen.faults.push_back(std::move(wrong));
  }
}

void Visitor::timed_trial(Visit& visit, int round) {
  Settled settled;
  // One that leaves work running would only pile it up; a jostled one never settles.
  if (!leaves_work_ && internal::jostle_seed.load() == 0) settled = settle();
  Trial trial;
  trial.round = round;
  trial.calls = settled.calls_each;
  trial.visited_s = settled.first_s;
  trial.settling_calls = settled.calls;
  trial.settling_s = settled.total_s;

  session_->prepare(input_, trial.calls);
  reset_peak_memory();
  journal_->clear();
  internal::open_journal.store(journal_, std::memory_order_relaxed);
  const Afterwork watch;
  const Usage before = usage_before();
  const double wall_s = call_s(trial.calls);
  const Usage used = usage_after() - before;
  const Leftover left = watch.look(patience_s());
  internal::open_journal.store(nullptr, std::memory_order_relaxed);
  trial.wall_s = wall_s / static_cast<double>(trial.calls);
  trial.peak_bytes = peak_memory_bytes();
  trial.tail_s = left.went_on_s;
  trial.tail_cpu_s = left.cpu_s;
  keep_usage(trial, used);
  keep_journal(trial, *journal_);
  note_agreement(visit, trial);
  if (did_not_wait(used.cpu_s() / static_cast<double>(trial.calls), left, reference_, false)) {
    visit.seen.faults.push_back(left_work(round, trial.wall_s, left));
    leaves_work_ = true;
  }
  session_->drop_answers();
  visit.seen.trials.push_back(std::move(trial));
}

// Once for each stand whose calls have other processes; untimed, since looking takes time.
void Visitor::look_at_memory(Visit& visit) {
  constexpr double longest_s = 0.1;
  constexpr int enough_looks = 10;
  const bool judged = !visit.over && !leaves_work_ && internal::jostle_seed.load() == 0;
  if (looked_at_memory_ || !judged || !forked_ever()) return;
  looked_at_memory_ = true;
  const TreeMemory watch;
  const std::int64_t start = now_ns();
  do {
    session_->prepare(input_, 1);
    call_s(1);
    session_->drop_answers();
  } while (watch.looks() < enough_looks && static_cast<double>(now_ns() - start) * 1e-9 < longest_s);
  if (watch.looks() > 0) visit.seen.tree_bytes.push_back(watch.peak_bytes());
}

Visit Visitor::visit(int round) {
  Visit visit;
  const auto fault = caught(
      [&] {
        if (!session_) start(visit);
        if (!pinned_) change_places();
        timed_trial(visit, round);
        look_at_memory(visit);
      },
      round);
  internal::open_journal.store(nullptr, std::memory_order_relaxed);
  tell(Stage::idle);
  if (fault) {
    visit.seen.faults.push_back(*fault);
    visit.over = visit.replace = true;
    session_.reset();
  }
  visit.replace = visit.replace || leaves_work_;
  return visit;
}

}  // namespace antcrew
