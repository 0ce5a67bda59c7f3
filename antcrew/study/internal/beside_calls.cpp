#include "antcrew/study/internal/beside_calls.hpp"

#include <algorithm>
#include <vector>

#include "antcrew/analysis/statistics.hpp"
#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/standing_crew.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/log/library_calls.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/processors.hpp"
#include "antcrew/machine/refill.hpp"
#include "antcrew/machine/usage.hpp"
#include "antcrew/study/internal/one_place.hpp"
#include "antcrew/study/internal/spin_samples.hpp"

namespace antcrew::study_layer {
namespace {

// What a crew of this kind takes for nothing: a region, and a piece of one. Tried with a crew of its own, for some
// milliseconds; the median of several goes.
struct CrewCosts {
  double call_s = 0;
  double piece_s = 0;
  double fork_s = 0;  // of workers' time
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

void empty_forks(TaskCrew& crew, int levels) {
  if (levels == 0) return;
  crew.both([&] { empty_forks(crew, levels - 1); }, [&] { empty_forks(crew, levels - 1); });
}

CrewCosts costs_of(const std::string& crew, int workers) {
  CrewCosts costs;
  const auto workers_n = static_cast<std::size_t>(workers);
  if (crew == "ThreadCrew") {
    ThreadCrew its(workers);
    costs = costs_of_loops(its, Split::chunks(1));
  } else if (crew == "TaskCrew") {
    TaskCrew its(workers);
    costs = costs_of_loops(its, Grain{1});
    constexpr int levels = 13;
    empty_forks(its, levels);
    const double all_s = median_time(5e-3, 10, [&] { empty_forks(its, levels); });
    costs.fork_s =
        std::max(0.0, all_s - costs.call_s) * std::min<int>(workers, usable_processors_now()) / (1 << levels);
  } else if (crew == "ProcessCrew") {
    ProcessCrew its(workers);
    costs.call_s = median_time(20e-3, 10, [&] { its.collect(workers_n, nothing_of); });
  } else if (crew == "StandingCrew") {
    StandingCrew its(workers);
    costs.call_s = median_time(10e-3, 50, [&] { its.collect(workers_n, nothing_of); });
  }
  return costs;
}

constexpr int most_tries = 3;
constexpr double long_try_s = 0.1;  // beyond, one is enough

}  // namespace

Visitor::Beside Visitor::try_beside(const std::vector<internal::LaneSums>& metered, bool one_worker) {
  Beside tried;
  tried.page_fault_s = page_fault_s();
  prices(metered, tried);
  count_memory(tried);
  if (spec_.baseline() || spec_.workers < 2 || launched_crew() != nullptr) return tried;
  if (one_worker) tried.one_worker_s = call_with_one_worker();
  look_for_spins(metered, tried);
  if (tried.spinning_s == 0) compare_places(metered, tried);
  return tried;
}

void Visitor::prices(const std::vector<internal::LaneSums>& metered, Beside& tried) const {
  if (const internal::LaunchedCrew* launched = launched_crew(); launched != nullptr) {
    tried.call_cost_s = launched->empty_call_s();
    return;
  }
  const bool without = std::all_of(metered.begin(), metered.end(), [](const auto& sums) { return sums.regions == 0; });
  if (spec_.baseline() || spec_.workers < 2 || without) return;
  const CrewCosts costs = costs_of(spec_.of(study_).crew, spec_.workers);
  tried.call_cost_s = costs.call_s;
  tried.piece_cost_s = costs.piece_s;
  tried.fork_cost_s = costs.fork_s;
}

// In a call of its own, so that its price is in no other. Of processes the parent alone would be seen.
void Visitor::count_memory(Beside& tried) {
  if (in_processes() || launched_crew() != nullptr) return;
  const internal::CountedCalls counting;
  if (!counting.sees_memory()) return;
  session_->prepare(input_, 1);
  const internal::LibraryCounts before = counting.so_far();
  call_s(1);
  tried.memory = counting.so_far() - before;
  session_->drop_answers();
}

// With a crew of its own, of one. The median of some.
double Visitor::call_with_one_worker() {
  const auto variant = static_cast<std::size_t>(spec_.variant);
  CrewOptions options = study_.crew_options(variant);
  if (options.pin == Pin::off) options.pin = spec_.pin;
  struct Instead {
    internal::Owned<Session>& of;
    internal::Owned<Session> other;
    Instead(internal::Owned<Session>& session, internal::Owned<Session> with) : of(session), other(std::move(with)) {
      of.swap(other);
    }
    ~Instead() { of.swap(other); }
  };
  const Instead instead(session_, study_.open_variant(variant, 1, options));
  const double first_s = plain_call();
  std::vector<double> times;
  while (times.size() < (first_s < long_try_s ? most_tries : 1)) times.push_back(plain_call());
  return median(times);
}

// Only of calls that compute more than the baseline does. On one processor nothing moves between caches: what the work
// then takes less is the price of sharing it, or of the memory that all use at once.
void Visitor::compare_places(const std::vector<internal::LaneSums>& metered, Beside& tried) {
  constexpr double noticed = 1.05;
  constexpr double longest_s = 0.3;
  constexpr double patience = 4;
  constexpr double longest_beside_one_s = 0.15;
  if (in_processes() || metered.empty()) return;
  const internal::LaneSums& middle = metered[metered.size() / 2];
  // A single metered call is all that there was time for.
  const double most_s = metered.size() > 1 ? longest_s : longest_beside_one_s;
  if (middle.cpu_tree_s < noticed * reference_.cpu_s || middle.cpu_tree_s > most_s) return;
  const std::vector<int> processors = internal::processor_order(internal::Nearness::apart);
  if (processors.size() < 2) return;
  const auto cpu_of_call_s = [&] {
    const Usage before = usage_before();
    plain_call();
    return (usage_after() - before).cpu_s();
  };
  std::vector<double> spread;
  std::vector<double> one_place;
  for (int k = 0; k < (middle.cpu_tree_s < long_try_s ? most_tries : 1); ++k) {
    spread.push_back(cpu_of_call_s());
    internal::OnOnePlace place(processors[static_cast<std::size_t>(k) % processors.size()],
                               0.1 + patience * spread.back());
    const double cpu_s = cpu_of_call_s();
    if (!place.kept()) return;
    one_place.push_back(cpu_s);
  }
  tried.spread_cpu_s = median(spread);
  tried.one_place_cpu_s = median(one_place);
}

// Threads that wait without sleeping compute more than the baseline does. Lanes are open meanwhile: they tell what a
// crew's workers do between their bodies from what the bodies do.
void Visitor::look_for_spins(const std::vector<internal::LaneSums>& metered, Beside& tried) {
  constexpr double noticed = 1.1;
  constexpr double patience_s = 0.6;
  constexpr std::size_t enough = 100;
  constexpr double least_share = 0.05;
  if (in_processes() || metered.empty()) return;
  if (metered[metered.size() / 2].cpu_tree_s < noticed * reference_.cpu_s) return;
  const internal::SpinSamples samples;
  const std::int64_t start = now_ns();
  const Usage before = usage_before();
  int calls = 0;
  do {
    session_->prepare(input_, 1);
    lanes_->open();
    session_->call_ns(input_, 1);
    lanes_->close();
    session_->drop_answers();
    ++calls;
  } while (samples.all() < enough && seconds_since(start) < patience_s);
  const double cpu_s = (usage_after() - before).cpu_s() / calls;
  if (samples.all() < enough / 2) return;
  const double share = static_cast<double>(samples.spinning()) / static_cast<double>(samples.all());
  if (share >= least_share) tried.spinning_s = share * cpu_s;
}

}  // namespace antcrew::study_layer
