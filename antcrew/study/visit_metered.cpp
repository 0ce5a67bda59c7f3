// Metered calls: the variant once more, with a log of what each worker does.
#include <algorithm>

#include "antcrew/analysis/statistics.hpp"
#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/standing_crew.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/log/log_costs.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/refill.hpp"
#include "antcrew/machine/usage.hpp"
#include "antcrew/study/sampler.hpp"
#include "antcrew/study/visit.hpp"

namespace antcrew::study_layer {
namespace {

// Calls shorter than this are tried more often, and those in the middle are kept.
constexpr double short_metered_s = 20e-3;
constexpr int more_often = 3;
// Beyond, the call without a log that each metered one is compared with is saved: the timed trials tell.
constexpr double long_metered_s = 50e-3;

// What a crew of this kind takes for nothing: a region, and a piece of one. Tried with a crew of its own, for some
// milliseconds; the median of several goes.
struct CrewCosts {
  double call_s = 0;
  double piece_s = 0;
};

template <class Go>
double median_time(double limit_s, int most, Go&& go) {
  std::vector<double> times;
  const std::int64_t start = now_ns();
  while (static_cast<int>(times.size()) < most && (times.size() < 3 || seconds_since(start) < limit_s)) {
    const std::int64_t began = now_ns();
    go();
    times.push_back(seconds_since(began));
  }
  return median(times);
}

template <class Crew, class OnePiece>
CrewCosts costs_of_loops(Crew& crew, OnePiece one_piece) {
  constexpr std::size_t pieces = 20'000;
  const auto nothing = [](std::size_t) {};
  const auto workers = static_cast<std::size_t>(crew.workers());
  const auto calls_in_a_row = [&] {
    for (int k = 0; k < 10; ++k) crew.each(workers, one_piece, nothing);
  };
  CrewCosts costs;
  crew.each(workers, one_piece, nothing);
  costs.call_s = median_time(5e-3, 100, calls_in_a_row) / 10;
  const double all_s = median_time(5e-3, 10, [&] { crew.ranges(pieces, one_piece, [](Range) {}); });
  costs.piece_s = std::max(0.0, all_s - costs.call_s) * std::min<int>(crew.workers(), usable_processors_now()) / pieces;
  return costs;
}

constexpr auto nothing_of = [](std::size_t) { return 0; };

CrewCosts costs_of(const std::string& crew, int workers) {
  CrewCosts costs;
  const auto workers_n = static_cast<std::size_t>(workers);
  if (crew == "ThreadCrew") {
    ThreadCrew its(workers);
    costs = costs_of_loops(its, Split::chunks(1));
  } else if (crew == "TaskCrew") {
    TaskCrew its(workers);
    costs = costs_of_loops(its, Grain{1});
  } else if (crew == "ProcessCrew") {
    ProcessCrew its(workers);
    costs.call_s = median_time(20e-3, 10, [&] { its.collect(workers_n, nothing_of); });
  } else if (crew == "StandingCrew") {
    StandingCrew its(workers);
    costs.call_s = median_time(10e-3, 50, [&] { its.collect(workers_n, nothing_of); });
  }
  return costs;
}

}  // namespace

const internal::LaunchedCrew* Visitor::launched_crew() const {
  return spec_.baseline() ? nullptr : study_.launched(static_cast<std::size_t>(spec_.variant));
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
  const Usage before = usage_before();
  tell(board_, Stage::calling);
  if (board_ != nullptr && number > 0) board_->metered_call.store(number, std::memory_order_release);
  lanes_->open();
  session_->call_ns(input_, 1);
  lanes_->close();
  if (board_ != nullptr && number > 0) board_->metered_call.store(0, std::memory_order_release);
  tell(board_, Stage::idle);
  const Usage used = usage_after() - before;
  internal::open_journal.store(nullptr, std::memory_order_relaxed);
  internal::LaneLog log = lanes_->log();
  if (launched != nullptr) launched->close_log(log);
  session_->drop_answers();
  const auto phases = journal_->phases();
  if (const auto again = phases.find(internal::touching_again); again != phases.end())
    log.touched_again_ns = static_cast<std::int64_t>(again->second.seconds * 1e9);
  internal::LaneSums sums = internal::sums_of(log);
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

// In pairs of a call with the log and one without, after one of each that pays for what happens once.
void Visitor::meter(Visit& visit, int calls) {
  if (first_s_ == 0) first_s_ = plain_call();
  double last_s = metered_call().wall_s;
  std::vector<internal::LaneSums> all;
  const int wanted = last_s < short_metered_s ? calls * more_often : calls;
  for (int k = 0; k < wanted; ++k) {
    const double plain_s = last_s < long_metered_s ? plain_call() : 0;
    all.push_back(metered_call());
    all.back().plain_s = plain_s;
    last_s = all.back().wall_s;
  }
  CrewCosts costs;
  if (const internal::LaunchedCrew* launched = launched_crew(); launched != nullptr) {
    costs.call_s = launched->empty_call_s();
  } else if (!spec_.baseline() && spec_.workers > 1)
    costs = costs_of(spec_.of(study_).crew, spec_.workers);
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
    one.call_cost_s = costs.call_s;
    one.piece_cost_s = costs.piece_s;
    one.page_fault_s = page_fault_s();
    visit.seen.metered.push_back(std::move(one));
  }
}

// Means of a group: a look falls into a long call more often than into a short one, and so do its seconds. Calls are
// repeated until a group has been looked at often enough, within bounds; where hardly a look falls into a call, no more
// are made.
void Visitor::meter_by_samples(Visit& visit, int groups) {
  constexpr double longest_s = 1;     // of a group, with all that is around its calls
  constexpr double patience_s = 0.2;  // until it shows how much of the time lies in calls
  constexpr double too_little = 0.1;  // of it: then looks hardly ever fall into one
  constexpr double plain_most_s = 0.05;
  constexpr double least_moments = 140;  // what all lanes do at one moment is one look, so to speak
  constexpr std::int64_t most_calls = internal::calls_of_a_group / 4;
  const double enough = std::max(least_moments, internal::enough_looks / spec_.workers);
  if (first_s_ == 0) first_s_ = plain_call();
  double last_s = metered_call().wall_s;
  bool hopeless = false;
  for (int group = 0; group < groups; ++group) {
    internal::LaneSums sums;
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
    }
    const auto n = static_cast<double>(calls);
    for (double* mean : {&sums.wall_s, &sums.cpu_tree_s, &sums.system_s, &sums.page_faults, &sums.events}) *mean /= n;
    if (plain_s > 0) {
      sums.plain_s = plain_s / static_cast<double>(plain_calls);
      sums.slowdown = beside_s / plain_s - 1;
    }
    sums.lanes = spec_.workers;
    sums.page_fault_s = page_fault_s();
    visit.seen.metered.push_back(std::move(sums));
  }
}

}  // namespace antcrew::study_layer
