// Metered calls: the variant once more, with a log of what each worker does.
#include <algorithm>
#include <optional>

#include "antcrew/analysis/statistics.hpp"
#include "antcrew/log/library_calls.hpp"
#include "antcrew/log/log_costs.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/usage.hpp"
#include "antcrew/study/internal/beside_calls.hpp"
#include "antcrew/study/internal/source_place.hpp"
#include "antcrew/study/sampler.hpp"
#include "antcrew/study/visit.hpp"

namespace antcrew::study_layer {
namespace {

// Calls shorter than this are tried more often, and those in the middle are kept.
constexpr double short_metered_s = 20e-3;
constexpr int more_often = 3;
// Beyond, the call without a log that each metered one is compared with is saved: the timed trials tell.
constexpr double long_metered_s = 50e-3;

// By the places where they are waited for.
void add_locks(std::vector<internal::LockFacts>& sums, const std::vector<internal::LockFacts>& more) {
  for (const internal::LockFacts& lock : more) {
    const auto known = std::find_if(sums.begin(), sums.end(),
                                    [&](const auto& of) { return of.place == lock.place && of.name == lock.name; });
    if (known == sums.end()) {
      sums.push_back(lock);
      continue;
    }
    known->waits += lock.waits;
    known->wait_s += lock.wait_s;
    known->holds += lock.holds;
    known->hold_s += lock.hold_s;
    known->hold_off_s += lock.hold_off_s;
  }
}

// Whether threads waited for locks of the C library long enough to be worth looking at them in further calls: else
// locks are taken there as they are in timed ones.
bool waits_for_locks(const internal::LaneSums& first) {
  constexpr double worth_it = 0.01;  // of the lanes' time
  double waited_s = 0;
  for (const internal::LockFacts& lock : first.locks) waited_s += lock.wait_s;
  return waited_s > worth_it * first.lane_seconds();
}

}  // namespace

const internal::LaunchedCrew* Visitor::launched_crew() const {
  return spec_.baseline() ? nullptr : study_.launched(static_cast<std::size_t>(spec_.variant));
}

bool Visitor::in_processes() const {
  if (spec_.baseline()) return false;
  const std::string& crew = spec_.of(study_).crew;
  return crew == "ProcessCrew" || crew == "StandingCrew";
}

std::string Visitor::place_of_callers(const std::vector<const void*>& callers) {
  const auto [known, is_new] = places_.try_emplace(callers.front());
  if (is_new) known->second = internal::source_place(callers);
  return known->second;
}

double Visitor::plain_call() {
  session_->prepare(input_, 1);
  const double took_s = call_s(1);
  session_->drop_answers();
  return took_s;
}

internal::LaneSums Visitor::metered_call(std::int64_t number) {
  journal_->clear();
  session_->prepare(input_, 1);
  internal::open_journal.store(journal_, std::memory_order_relaxed);
  const internal::LaunchedCrew* launched = launched_crew();
  if (launched != nullptr) launched->open_log();
  std::optional<internal::CountedCalls> counting;  // what ranks wait for inside MPI is no lock of theirs
  using What = internal::CountedCalls::What;
  if (launched == nullptr) counting.emplace(waits_for_locks_ ? What::rare : What::no_locks);
  const Usage before = usage_before();
  const internal::LibraryCounts counts_before = counting ? counting->so_far() : internal::LibraryCounts();
  tell(board_, Stage::calling);
  if (board_ != nullptr && number > 0) board_->metered_call.store(number, std::memory_order_release);
  lanes_->open();
  session_->call_ns(input_, 1);
  lanes_->close();
  if (board_ != nullptr && number > 0) board_->metered_call.store(0, std::memory_order_release);
  tell(board_, Stage::idle);
  internal::LibraryCounts counted;
  if (counting) counted = counting->so_far() - counts_before;
  counting.reset();
  const Usage used = usage_after() - before;
  internal::open_journal.store(nullptr, std::memory_order_relaxed);
  internal::LaneLog log = lanes_->log();
  if (launched != nullptr) launched->close_log(log);
  session_->drop_answers();
  const auto phases = journal_->phases();
  if (const auto again = phases.find(internal::touching_again); again != phases.end())
    log.touched_again_ns = static_cast<std::int64_t>(again->second.seconds * 1e9);
  for (internal::LaneLock& lock : log.locks) {
    if (!lock.callers.empty()) lock.place = place_of_callers(lock.callers);
  }
  internal::LaneSums sums = internal::sums_of(log);
  if (launched == nullptr) {
    sums.library = counted;
    sums.thread_cost_s = thread_cost_s_;
  }
  sums.timeline = internal::timeline_of(log);
  const auto counters = journal_->counters();
  if (const auto bytes = counters.find(internal::bytes_moved); bytes != counters.end())
    sums.moved_bytes = bytes->second;
  sums.metering_s = std::min(internal::metering_of(log), sums.lane_seconds());
  sums.cpu_tree_s = used.cpu_s() + (sums.ranks ? sums.ranks->cpu_s : 0);
  sums.system_s = used.system_s + (sums.ranks ? sums.ranks->system_s : 0);
  sums.page_faults = static_cast<double>(used.faults_minor);
  return sums;
}

// In pairs of a call with the log and one without, after one of each that pays for what happens once. A single call is
// all there is time for: then the plain one before it pays.
void Visitor::meter(Visit& visit, const VisitOrder& order) {
  const int calls = order.metered;
  if (first_s_ == 0) first_s_ = plain_call();
  thread_cost_s_ = internal::CountedCalls::price_of_a_thread();
  waits_for_locks_ = true;
  std::vector<internal::LaneSums> all;
  if (calls > 1 || order.may_be_without) all.push_back(metered_call());
  if (order.may_be_without && all.front().regions == 0) {
    visit.seen.metered = std::move(all);
    return;
  }
  double last_s = all.empty() ? first_s_ : all.front().wall_s;
  waits_for_locks_ = all.empty() || waits_for_locks(all.front());
  all.clear();
  const int wanted = last_s < short_metered_s ? calls * more_often : calls;
  for (int k = 0; k < wanted; ++k) {
    const double plain_s = last_s < long_metered_s ? plain_call() : 0;
    all.push_back(metered_call());
    all.back().plain_s = plain_s;
    last_s = all.back().wall_s;
  }
  const Beside beside = try_beside(all, order.one_worker);
  std::vector<double> slowdowns;
  for (const internal::LaneSums& one : all) {
    if (one.plain_s > 0) slowdowns.push_back(one.wall_s / one.plain_s - 1);
  }
  std::sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.wall_s < b.wall_s; });
  const std::size_t spare = all.size() - static_cast<std::size_t>(calls);
  all.erase(all.begin(), all.begin() + static_cast<std::ptrdiff_t>(spare / 2));
  all.resize(static_cast<std::size_t>(calls));
  // One timeline is enough: of the call in the middle.
  for (std::size_t k = 0; k < all.size(); ++k) {
    if (k != all.size() / 2) all[k].timeline.reset();
  }
  for (internal::LaneSums& one : all) {
    if (!slowdowns.empty()) one.slowdown = median(slowdowns);
    beside.tell(one);
    visit.seen.metered.push_back(std::move(one));
  }
}

// Means of a group: a look falls into a long call more often than into a short one, and so do its seconds. Calls are
// repeated until a group has been looked at often enough, within bounds; where hardly a look falls into a call, no more
// are made.
void Visitor::meter_by_samples(Visit& visit, const VisitOrder& order) {
  const int groups = order.metered;
  constexpr double longest_s = 1;     // of a group, with all that is around its calls
  constexpr double patience_s = 0.2;  // until it shows how much of the time lies in calls
  constexpr double too_little = 0.1;  // of it: then looks hardly ever fall into one
  constexpr double plain_most_s = 0.05;
  constexpr double least_moments = 140;  // what all lanes do at one moment is one look, so to speak
  constexpr std::int64_t most_calls = internal::calls_of_a_group / 4;
  const double enough = std::max(least_moments, internal::enough_looks / spec_.workers);
  if (first_s_ == 0) first_s_ = plain_call();
  thread_cost_s_ = internal::CountedCalls::price_of_a_thread();
  waits_for_locks_ = true;
  double last_s = first_s_;
  if (groups > 1) {
    const internal::LaneSums first = metered_call();
    last_s = first.wall_s;
    waits_for_locks_ = waits_for_locks(first);
  }
  bool hopeless = false;
  for (int group = 0; group < groups; ++group) {
    internal::LaneSums sums;
    internal::LibraryCounts counted;
    double plain_s = 0;
    double beside_s = 0;  // of the metered calls that have a plain one beside them
    std::int64_t plain_calls = 0;
    std::int64_t calls = 0;
    const std::int64_t began = now_ns();
    const std::int64_t looks_before = board_ == nullptr ? 0 : board_->looks.load();
    const auto wanted = [&] {
      const auto looks = static_cast<double>(board_ == nullptr ? 0 : board_->looks.load() - looks_before);
      const double so_far_s = seconds_since(began);
      hopeless = hopeless || (so_far_s > patience_s && sums.wall_s < too_little * so_far_s);
      return !hopeless && looks < enough && calls < most_calls && seconds_since(began) < longest_s;
    };
    while (calls == 0 || wanted()) {
      const bool beside = last_s < long_metered_s && plain_s < plain_most_s;
      if (beside) {
        plain_s += plain_call();
        ++plain_calls;
      }
      const internal::LaneSums one = metered_call(group * internal::calls_of_a_group + ++calls);
      last_s = one.wall_s;
      if (beside) beside_s += one.wall_s;
      sums.wall_s += one.wall_s;
      sums.cpu_tree_s += one.cpu_tree_s;
      sums.system_s += one.system_s;
      sums.page_faults += one.page_faults;
      sums.events += one.events;
      if (calls == 1) sums.phases = one.phases;
      if (one.library) counted.add(*one.library);
      add_locks(sums.locks, one.locks);
    }
    const auto n = static_cast<double>(calls);
    for (double* mean : {&sums.wall_s, &sums.cpu_tree_s, &sums.system_s, &sums.page_faults, &sums.events}) *mean /= n;
    for (internal::LockFacts& lock : sums.locks) {
      for (double* mean : {&lock.waits, &lock.wait_s, &lock.holds, &lock.hold_s, &lock.hold_off_s}) *mean /= n;
    }
    if (launched_crew() == nullptr) sums.library = counted.over(n);
    sums.thread_cost_s = thread_cost_s_;
    if (plain_s > 0) {
      sums.plain_s = plain_s / static_cast<double>(plain_calls);
      sums.slowdown = beside_s / plain_s - 1;
    }
    sums.lanes = spec_.workers;
    visit.seen.metered.push_back(std::move(sums));
  }
  const Beside beside = try_beside(visit.seen.metered, order.one_worker);
  for (internal::LaneSums& sums : visit.seen.metered) beside.tell(sums);
}

}  // namespace antcrew::study_layer
