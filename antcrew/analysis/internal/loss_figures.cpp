#include "antcrew/analysis/internal/loss_figures.hpp"

#include <algorithm>
#include <string>

#include "antcrew/analysis/internal/promises.hpp"
#include "antcrew/analysis/statistics.hpp"

namespace antcrew::internal {
namespace {

// Those of the causes that a call knows.
std::vector<const Loss*> losses_among(const Ledger& ledger, const std::vector<Cause>& causes) {
  std::vector<const Loss*> among;
  for (const Loss& loss : ledger.losses) {
    if (std::find(causes.begin(), causes.end(), loss.cause) != causes.end()) among.push_back(&loss);
  }
  return among;
}

double sum_of(const std::vector<const Loss*>& losses) {
  double sum_s = 0;
  for (const Loss* loss : losses) sum_s += loss->loss_s;
  return sum_s;
}

bool has(const std::vector<const Loss*>& losses, Cause cause) {
  return std::any_of(losses.begin(), losses.end(), [&](const Loss* loss) { return loss->cause == cause; });
}

bool any_takes_turns(const std::vector<const Loss*>& losses) {
  return std::any_of(losses.begin(), losses.end(), [](const Loss* loss) { return takes_turns(loss->cause); });
}

bool is_more_work(Cause cause) {
  return cause == Cause::inflation_own || cause == Cause::inflation_one_worker || cause == Cause::kernel_time;
}

// Taking turns at a lock costs CPU time, too (its words move between caches, sleepers are woken), and so do lines that
// are written in turn, tiny pieces, calls, and threads that come and go: how much of what the work takes more than the
// baseline's is that, nobody can tell, so that at most all of it goes with them. Where there is a thread for every
// item, all that is lost may be.
double cost_of_turns(const Ledger& ledger, const std::vector<const Loss*>& without) {
  const bool threads = has(without, Cause::threads_per_item);
  if (!any_takes_turns(without)) return 0;
  double all_s = 0;
  for (const Loss& loss : ledger.losses) {
    if ((threads || is_more_work(loss.cause)) && !has(without, loss.cause)) all_s += std::max(0.0, loss.loss_s);
  }
  return all_s;
}

// Losses too small to be told may be a consequence of a large one: a promise that holds at most lets them go with it.
double small_beside(const Ledger& ledger, const std::vector<const Loss*>& without) {
  const bool turns = any_takes_turns(without);
  double all_s = 0;
  for (const Loss& loss : ledger.losses) {
    const bool small = loss.loss_s > 0 && loss.loss_s < least_told_share * ledger.lane_seconds();
    if (small && !has(without, loss.cause) && !(turns && is_more_work(loss.cause))) all_s += loss.loss_s;
  }
  return all_s;
}

// Causes that make bodies longer: without them pieces, steps and what is done in turn may be shorter, too.
bool lengthens_bodies(Cause cause) {
  return computes(cause) || cause == Cause::blocked || cause == Cause::lock_wait || cause == Cause::shared_processor ||
         cause == Cause::oversubscribed || cause == Cause::quota || cause == Cause::slow_host;
}

bool lifts(Cause cause, const std::string& floor) {
  return ((cause == Cause::sequential_stretch || cause == Cause::threads_per_item) && floor == "serial") ||
         (cause == Cause::lock_wait && floor == "lock") || (cause == Cause::slow_stage && floor == "stage") ||
         ((cause == Cause::uneven_pieces || cause == Cause::not_divisible) && floor == "piece");
}

// What stands in the way of a shorter call once these losses are gone: their own floors go with them, and of others as
// much as may have been in them.
double floor_without(const Ledger& ledger, const std::vector<const Loss*>& losses, double turns_s) {
  double within_s = 0;
  double computed_s = 0;
  double floor_s = losses.front()->limit_s;
  for (const Loss* loss : losses) {
    if (lengthens_bodies(loss->cause)) within_s += loss->loss_s;
    if (computes(loss->cause)) computed_s += loss->loss_s;
    floor_s = std::min(floor_s, loss->limit_s);
  }
  if (within_s > 0) within_s += turns_s;
  // Of turns, tiny pieces and threads all that is computed more may go: what they take themselves is CPU time, too.
  if (any_takes_turns(losses)) computed_s = std::max(computed_s, ledger.work_change_s - turns_s);
  for (const auto& [what, seconds] : ledger.floors) {
    const std::string& floor = what;
    const bool lifted =
        std::any_of(losses.begin(), losses.end(), [&](const Loss* loss) { return lifts(loss->cause, floor); });
    if (!lifted) floor_s = std::max(floor_s, seconds - within_s);
  }
  // The processors stay as many as they are; what is CPU time itself need not pass through them any more, nor what may
  // have been the machine's doing in this call.
  double machine_s = 0;
  for (const Loss& loss : ledger.losses) {
    if (loss.cause == Cause::inflation_own || loss.cause == Cause::inflation_machine)
      machine_s += std::max(0.0, loss.loss_s);
  }
  return std::max(floor_s, ledger.processors_s - std::max(computed_s + turns_s, machine_s) / ledger.processors);
}

// How many times shorter the call would be at most.
double gain_without(const Ledger& ledger, const std::vector<const Loss*>& losses) {
  const double loss_s = sum_of(losses);
  if (loss_s < 0) return ledger.wall_s / ((ledger.lane_seconds() - loss_s) / ledger.lanes);
  const double turns_s = cost_of_turns(ledger, losses);
  const double left_s = (ledger.lane_seconds() - loss_s - turns_s - small_beside(ledger, losses)) / ledger.lanes;
  const double then_s = std::max({left_s, floor_without(ledger, losses, turns_s), 1e-12});
  return std::max(1.0, ledger.wall_s / then_s);
}

bool led_by(const Ledger& ledger, const std::vector<Cause>& causes) {
  return !ledger.losses.empty() && std::find(causes.begin(), causes.end(), ledger.losses.front().cause) != causes.end();
}

}  // namespace

const Ledger& middle_of(const std::vector<Ledger>& ledgers) {
  std::vector<const Ledger*> sorted;
  for (const Ledger& ledger : ledgers) sorted.push_back(&ledger);
  std::sort(sorted.begin(), sorted.end(), [](const Ledger* a, const Ledger* b) { return a->wall_s < b->wall_s; });
  return *sorted[sorted.size() / 2];
}

LossFigures loss_figures(const std::vector<Ledger>& ledgers, const std::vector<Cause>& causes) {
  LossFigures figures;
  if (ledgers.empty()) return figures;
  std::vector<double> shares;
  std::vector<double> seconds;
  std::size_t told = 0;
  std::size_t led = 0;
  for (const Ledger& ledger : ledgers) {
    const std::vector<const Loss*> losses = losses_among(ledger, causes);
    const double loss_s = sum_of(losses);
    const double share = ledger.lane_seconds() > 0 ? loss_s / ledger.lane_seconds() : 0;
    shares.push_back(share);
    seconds.push_back(loss_s);
    if (losses.empty()) continue;
    figures.gain = std::max(figures.gain, gain_without(ledger, losses));
    told += share >= least_told_share ? 1 : 0;
    led += led_by(ledger, causes) ? 1 : 0;
  }
  figures.share = median(shares);
  figures.loss_s = median(seconds);
  const bool leads = led_by(middle_of(ledgers), causes);
  if (told == ledgers.size() && (!leads || led == ledgers.size())) figures.sure = Finding::Sure::measured;
  return figures;
}

}  // namespace antcrew::internal
