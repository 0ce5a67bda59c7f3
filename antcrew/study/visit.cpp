#include "antcrew/study/visit.hpp"

#include <algorithm>
#include <cmath>

#include "antcrew/analysis/statistics.hpp"
#include "antcrew/log/log_costs.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/control_group.hpp"
#include "antcrew/machine/leftover_work.hpp"
#include "antcrew/machine/processors.hpp"
#include "antcrew/machine/random_delays.hpp"
#include "antcrew/machine/topology.hpp"
#include "antcrew/machine/tree_memory.hpp"
#include "antcrew/machine/usage.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/internal/returned_child.hpp"
#include "antcrew/study/internal/trial_facts.hpp"
#include "antcrew/study/visit_faults.hpp"

namespace antcrew::study_layer {
namespace {

// Calls of this length are timed one by one: a thousand times what reading the clock costs. Shorter ones fill a batch.
constexpr double timed_alone_s = 30e-6;
constexpr double batch_s = 200e-6;
constexpr double most_calls = 1'000'000;
constexpr int periods_of_a_batch = 3;                    // of a CPU quota: so that the figure is one that lasts
constexpr std::uint64_t most_kept_bytes = 256ull << 20;  // answers of one batch

// Timing makes up for all that is not timed, so that most of a study's time is; but no longer than this at once.
constexpr double timed_over_rest = 1.5;
constexpr double most_along = 1.0 / 3;  // of the time timed
constexpr double longest_timing_s = 1.5;
constexpr double longest_over_rest = 4;  // batches and what they bring along, however little of that is timed
constexpr double most_along_of_a_batch_s = 0.05;
constexpr std::size_t most_batches = 2000;
constexpr double short_call_s = 50e-3;  // three batches at least below, one above long_call_s, else two
constexpr double long_call_s = 0.5;

constexpr int most_settling_calls = 3;
constexpr double settled_thrice_s = 1e-3;    // calls below settle three times,
constexpr double settled_once_refills = 20;  // those of fewer refill times once
constexpr double negligible = 0.01;          // refill and start-up: then the first call is as good as any
constexpr double process_start_s = 0.1e-3;   // a fresh process touches its pages for the first time

constexpr double comparing_share = 0.1;       // of the time timed; the first and the last batch are always compared
constexpr double looked_after_each_s = 5e-3;  // batches as long: whether work goes on afterwards
constexpr double longest_comparing_s = 2e-3;  // beyond the last answer's
constexpr int most_lanes = 64;                // where a body starts a larger crew than it was asked for
constexpr double noticed_sleep_s = 1e-3;      // of the machine

void pin_this_thread(Pin pin) {
  const auto order = processor_order(pin == Pin::near ? Nearness::near : Nearness::apart);
  if (order.empty()) return;
  internal::ProcessorSet one;
  one.add(order.front());
  internal::keep_on(0, one);
}

int least_batches(double call_s) {
  return call_s < short_call_s ? 3 : call_s < long_call_s ? 2 : 1;
}

}  // namespace

Visitor::Visitor(const StudyBase& study, const CellSpec& spec, Anything input, Anything reference_answer,
                 const Reference& reference, ProcessBoard* board)
    : study_(study),
      spec_(spec),
      input_(std::move(input)),
      reference_answer_(std::move(reference_answer)),
      reference_(reference),
      board_(board) {}

Visitor::~Visitor() {
  session_.reset();  // its workers may write until then
  internal::Journal::destroy(journal_);
  internal::LaneBook::destroy(lanes_);
}

double Visitor::call_s(std::size_t calls) {
  tell(board_, Stage::calling);
  const double seconds = static_cast<double>(session_->call_ns(input_, calls)) * 1e-9;
  tell(board_, Stage::idle);
  return seconds;
}

// Long enough for work as long as the baseline's to end, short enough for a pool that merely sleeps.
double Visitor::patience_s() const noexcept {
  return std::clamp(3 * reference_.wall_s, 0.1, 5.0);
}

void Visitor::start(Visit& visit) {
  tell(board_, Stage::starting);
  if (journal_ == nullptr) journal_ = internal::Journal::create();
  const std::int64_t start = now_ns();
  if (spec_.baseline()) {
    if (spec_.pin != Pin::off) pin_this_thread(spec_.pin);
    session_ = study_.open_baseline();
  } else {
    const auto variant = static_cast<std::size_t>(spec_.variant);
    CrewOptions options = study_.crew_options(variant);
    if (options.pin == Pin::off) options.pin = spec_.pin;
    session_ = study_.open_variant(variant, spec_.workers, options);
  }
  startup_s_ = seconds_since(start);
  first_s_ = 0;
  visit.seen.startup_s.push_back(startup_s_);
  if (const auto crew = session_->crew_facts()) {
    visit.seen.asked_processors = crew->asked_processors;
    visit.seen.granted_processors = crew->granted_processors;
  }
}

// What one visit times: batches of calls, and all that is read around them.
struct Visitor::Timing {
  Trial trial;
  std::vector<double> times;  // of each batch, a call
  Usage used;
  HardwareCounters::Counts counts;
  bool counted = true;
  std::int64_t since_ns = 0;    // when the last visit ended
  std::int64_t batches_ns = 0;  // when the first batch was begun
  double timed_s = 0;
  double compared_s = 0;
  bool last = false;  // the batch just timed is the last one

  // As much as makes up for all else, and enough batches to have a middle. What the batches themselves bring along (a
  // copy of the input, comparing) cannot be made up for by more of them where it is a third of their time.
  bool enough() const noexcept {
    if (static_cast<int>(times.size()) < least_batches(times.back() * static_cast<double>(trial.calls))) return false;
    if (times.size() >= most_batches) return true;
    const double before_s = static_cast<double>(batches_ns - since_ns) * 1e-9;
    const double whole_s = seconds_since(batches_ns);
    if (whole_s >= std::min(longest_over_rest * before_s, 2 * longest_timing_s)) return true;
    const double along = std::min((whole_s - timed_s) / timed_s, most_along);
    return timed_s >= std::min(timed_over_rest * before_s / (1 - timed_over_rest * along), longest_timing_s);
  }
  void add(const HardwareCounters& counters, const std::optional<HardwareCounters::Counts>& before) {
    const auto after = counters.read();
    counted = counted && before && after;
    if (!counted) return;
    counts.instructions += after->instructions - before->instructions;
    counts.cycles += after->cycles - before->cycles;
  }
  void add(double wall_s, const Usage& more) {
    timed_s += wall_s;
    times.push_back(wall_s / static_cast<double>(trial.calls));
    internal::add_usage(used, more);
    last = enough() || internal::delay_seed.load() != 0;
    if (times.size() == 1) trial.processors = processors_last_used();
  }
};

// Refill and start-up are nothing beside such a call, so the first one of a cell process is timed as any.
bool Visitor::first_call_counts(double call_s) const noexcept {
  return reference_.refill_s + startup_s_ + process_start_s < negligible * call_s;
}

// The call that pays for everything that happens once. Where that is nothing beside it, it is timed as any other.
void Visitor::first_call(Visit& visit, Timing& timing) {
  const std::int64_t began_ns = timing.batches_ns = now_ns();
  const std::uint64_t before_bytes = private_bytes_now();
  session_->prepare(input_, 1);
  internal::open_journal.store(journal_, std::memory_order_relaxed);
  const LeftoverWork watch;
  const auto counts_before = counters_.read();
  const Usage before = usage_before();
  first_s_ = call_s(1);
  const Usage used = usage_after() - before;
  internal::open_journal.store(nullptr, std::memory_order_relaxed);
  const Leftover left = watch.look(patience_s());
  const std::uint64_t after_bytes = private_bytes_now();
  bytes_of_a_call_ = after_bytes > before_bytes ? after_bytes - before_bytes : 0;
  visit.seen.cold_s.push_back(first_s_);
  visit.seen.cold_cpu_s.push_back(used.cpu_s());
  if (internal::did_not_wait(used.cpu_s(), left, reference_, true)) {
    leaves_work_ = true;
    visit.seen.faults.push_back(internal::left_work(0, first_s_, left));
  }
  if (calls_of_a_batch(first_s_) == 1 && first_call_counts(first_s_)) {
    timing.trial.first = true;
    visit.began_ns = began_ns;
    timing.add(counters_, counts_before);
    timing.add(first_s_, used);
    internal::keep_leftover(timing.trial, left);
    compare(visit, timing);
  } else {
    journal_->clear();
  }
  session_->drop_answers();
  visit.renewing_s = startup_s_ + (timing.trial.first ? 0 : seconds_since(began_ns));
}

// Noise never adds any: what has not come to rest by then does not.
void Visitor::settle(Trial& trial) {
  // One that leaves work running would only pile it up; one with random delays never settles.
  if (leaves_work_ || internal::delay_seed.load() != 0) return;
  const int calls = first_s_ < settled_thrice_s                             ? most_settling_calls
                    : first_s_ < settled_once_refills * reference_.refill_s ? 1
                                                                            : 0;
  for (int call = 0; call < calls; ++call) {
    const std::int64_t began_ns = now_ns();
    session_->prepare(input_, 1);
    const double seconds = call_s(1);
    session_->drop_answers();
    along_of_a_call_s_ = seconds_since(began_ns) - seconds;
    if (call == 0) trial.visited_s = seconds;
    trial.settling_s += seconds;
    ++trial.settling_calls;
    if (call + 1 < calls && trial.settling_s > settled_thrice_s * most_settling_calls) break;
  }
}

std::size_t Visitor::calls_of_a_batch(double call_s) const {
  const double quota_s = periods_of_a_batch * reference_.quota_period_s;
  const double wanted_s = quota_s > 0 ? quota_s : call_s < timed_alone_s ? batch_s : 0;
  if (call_s >= wanted_s) return 1;
  const double room =
      static_cast<double>(most_kept_bytes) / static_cast<double>(std::max<std::uint64_t>(bytes_of_a_call_, 1));
  const double patience = most_along_of_a_batch_s / std::max(along_of_a_call_s_, 1e-9);
  const double calls = std::ceil(wanted_s / std::max(call_s, 1e-10));
  return static_cast<std::size_t>(std::clamp(calls, 1.0, std::max(1.0, std::min({most_calls, room, patience}))));
}

// Single calls, each after a pause, take longer than in a row: a batch that turns out far too short is made longer.
void Visitor::fill_batches(Trial& trial) {
  constexpr int attempts = 3;
  for (int attempt = 0; attempt < attempts && !leaves_work_; ++attempt) {
    session_->prepare(input_, trial.calls);
    const double seconds = call_s(trial.calls);
    session_->drop_answers();
    trial.settling_s += seconds;
    trial.settling_calls += static_cast<int>(trial.calls);
    const std::size_t calls = calls_of_a_batch(seconds / static_cast<double>(trial.calls));
    if (2 * calls < 3 * trial.calls) return;
    trial.calls = calls;
  }
}

// The last answer, which is timed, and as many of the others as there is time for: when a batch has many they are
// short.
double Visitor::compare_answers() {
  const std::size_t last = session_->kept() - 1;
  const std::int64_t start = now_ns();
  difference_ = session_->compare(reference_answer_, last);
  const double last_s = seconds_since(start);
  for (std::size_t k = 0; k < last && difference_.agree && seconds_since(start) < longest_comparing_s; ++k)
    difference_ = session_->compare(reference_answer_, k);
  return last_s;
}

void Visitor::compare(Visit& visit, Timing& timing) {
  const bool probe = !spec_.baseline() && spec_.of(study_).kind == Cell::Kind::probe;
  const bool due = timing.times.size() == 1 || timing.last || timing.compared_s < comparing_share * timing.timed_s;
  if (probe || !due) return;
  tell(board_, Stage::comparing);
  if (timing.trial.round == 1 && timing.trial.confirming == 0 && timing.times.size() == 1)
    if (const auto fault = caught([&] { visit.seen.answer = session_->in_short(session_->kept() - 1); }, 1); fault)
      visit.seen.answer = "cannot be shown: " + fault->text;
  const std::int64_t start = now_ns();
  double last_s = 0;
  const auto fault = caught([&] { last_s = compare_answers(); }, timing.trial.round, "comparing the answers");
  timing.compared_s += seconds_since(start);
  timing.trial.compare_s = std::max(timing.trial.compare_s, last_s);
  if (fault) {
    timing.trial.agreed = false;
    visit.seen.faults.push_back(*fault);
  } else if (!difference_.agree) {
    timing.trial.agreed = false;
    Fault wrong{Fault::Kind::wrong_answer, timing.trial.round, internal::in_words(difference_)};
    wrong.evidence = {{"differing", static_cast<double>(difference_.differing)},
                      {"compared", static_cast<double>(difference_.compared)}};
    if (difference_.numeric && std::isfinite(difference_.largest))
      wrong.evidence["largest_difference"] = difference_.largest;
    visit.seen.faults.push_back(std::move(wrong));
  }
}

void Visitor::batch(Visit& visit, Timing& timing) {
  Trial& trial = timing.trial;
  session_->prepare(input_, trial.calls);
  internal::open_journal.store(journal_, std::memory_order_relaxed);
  const LeftoverWork watch;
  const auto counts_before = counters_.read();
  const Usage before = usage_before();
  const double wall_s = call_s(trial.calls);
  const Usage used = usage_after() - before;
  timing.add(counters_, counts_before);
  timing.add(wall_s, used);
  if (timing.times.size() == 1 || timing.last || wall_s >= looked_after_each_s) {
    const Leftover left = watch.look(patience_s());
    internal::keep_leftover(trial, left);
    const double cpu_of_a_call = timing.used.cpu_s() / static_cast<double>(trial.calls * timing.times.size());
    if (!leaves_work_ && internal::did_not_wait(cpu_of_a_call, left, reference_, false)) {
      visit.seen.faults.push_back(internal::left_work(trial.round, timing.times.back(), left));
      leaves_work_ = true;
    }
  }
  internal::open_journal.store(nullptr, std::memory_order_relaxed);
  compare(visit, timing);
  session_->drop_answers();
}

void Visitor::timed_trial(Visit& visit, const VisitOrder& order) {
  const ControlGroup& group = own_control_group();
  Timing timing;
  Trial& trial = timing.trial;
  trial.round = order.round;
  timing.since_ns = order.since_ns > 0 ? order.since_ns : now_ns();
  const auto throttled_before = group.throttled_s();
  journal_->clear();
  reset_peak_memory();
  internal::note_processor(trial);
  if (first_s_ == 0) first_call(visit, timing);
  if (!trial.first) {
    settle(trial);
    trial.calls = calls_of_a_batch(trial.settling_calls > 0 ? trial.settling_s / trial.settling_calls : first_s_);
    if (trial.calls > 1) fill_batches(trial);
    reset_peak_memory();
    internal::note_processor(trial);
    visit.began_ns = timing.batches_ns = now_ns();
    batch(visit, timing);
  }
  while (!timing.last && !leaves_work_ && trial.agreed) batch(visit, timing);
  internal::keep_peak(trial, peak_memory_bytes(), (trial.calls - 1) * bytes_of_a_call_);
  trial.calls *= timing.times.size();
  trial.wall_s = median(timing.times);
  trial.times_s = std::move(timing.times);
  if (const auto after = group.throttled_s(); after && throttled_before) trial.throttled_s = *after - *throttled_before;
  internal::keep_usage(trial, timing.used);
  if (timing.counted) {
    trial.instructions = timing.counts.instructions / static_cast<double>(trial.calls);
    trial.cycles = timing.counts.cycles / static_cast<double>(trial.calls);
  }
  internal::keep_journal(trial, *journal_);
  visit.seen.trials.push_back(std::move(trial));
}

// Once for each cell process whose calls have other processes; untimed, since looking takes time.
void Visitor::look_at_memory(Visit& visit) {
  constexpr double longest_s = 0.05;
  constexpr int enough_looks = 10;
  const bool judged = !visit.over && !leaves_work_ && internal::delay_seed.load() == 0;
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

Visit Visitor::visit(const VisitOrder& order) {
  Visit visit;
  const double asleep_before_s = asleep_s();
  const auto fault = caught(
      [&] {
        if (order.metered > 0) internal::log_costs();
        if (order.metered > 0 && lanes_ == nullptr) lanes_ = internal::LaneBook::create(spec_.workers, most_lanes);
        if (!session_) start(visit);
        if (order.metered > 0 && order.looked_at) return meter_by_samples(visit, order);
        if (order.metered > 0) return meter(visit, order);
        timed_trial(visit, order);
        if (order.memory) look_at_memory(visit);
      },
      order.round);
  internal::end_if_returned_child(depth_);  // what it threw came through
  internal::open_journal.store(nullptr, std::memory_order_relaxed);
  internal::open_lanes.store(nullptr, std::memory_order_relaxed);
  internal::current_lane = nullptr;
  tell(board_, Stage::idle);
  if (board_ != nullptr) board_->metered_call.store(0, std::memory_order_release);
  if (fault) {
    visit.seen.faults.push_back(*fault);
    visit.over = visit.replace = true;
    session_.reset();
  }
  visit.replace = visit.replace || leaves_work_;
  if (asleep_s() - asleep_before_s > noticed_sleep_s) {
    visit.dropped = Visit::Dropped::asleep;
    visit.seen.trials.clear();
  }
  return visit;
}

}  // namespace antcrew::study_layer
