#include "antcrew/analysis/internal/promises.hpp"

#include <algorithm>

#include "antcrew/analysis/internal/loss_figures.hpp"

namespace antcrew::internal {
namespace {

// As high as what was measured may be.
double measured(const CellFigures& cell) {
  return cell.speedup->claimed ? cell.speedup->high : cell.speedup->median;
}

// The loosest of the calls: none of them rules it out.
double most_over(const std::vector<Ledger>& ledgers, const Finding& loss) {
  double most = 0;
  for (const Ledger& ledger : ledgers) {
    double removed_s = 0;
    double may_be_machine_s = 0;
    for (const Loss& of_call : ledger.losses) {
      if (of_call.cause == Cause::inflation_own || of_call.cause == Cause::inflation_machine)
        may_be_machine_s += std::max(0.0, of_call.loss_s);
      if (id_of(of_call.cause) != loss.id) continue;
      // One worker alone does this, too.
      if (of_call.cause == Cause::moving_data || of_call.cause == Cause::start_up_each_call)
        removed_s = std::max(0.0, of_call.loss_s);
      // Work that was left out comes back; what is CPU time goes.
      if (of_call.loss_s < 0 || computes(of_call.cause)) removed_s = of_call.loss_s;
      // Whoever takes turns at a lock computes for that, too; so do tiny pieces and calls, and threads. Of lines that
      // move more may be due to them than went with the workers on one processor.
      if (takes_turns(of_call.cause)) removed_s = std::max(0.0, ledger.work_change_s);
    }
    // Work that took longer in this call than it should may have been the machine's doing.
    most = std::max(most, most_of_workers(ledger, removed_s < 0 ? removed_s : std::max(removed_s, may_be_machine_s)));
  }
  return most;
}

void agree_on_limit(const Ledger& middle, double least, std::vector<Finding>& losses) {
  constexpr double far_away = 1000;
  if (!(middle.floor_s > 0) || middle.lanes < 2) return;
  const double limit = middle.necessary_s / middle.floor_s;
  for (const Finding& loss : losses) least = std::max(least, loss.gain_speedup.value_or(0));
  if (limit < least || limit >= far_away) return;
  for (Finding& loss : losses) {
    loss.limit_speedup = limit;
    loss.limit_by = middle.floor_by;
  }
}

}  // namespace

bool takes_turns(Cause cause) {
  return cause == Cause::lock_wait || cause == Cause::small_pieces || cause == Cause::small_calls ||
         cause == Cause::allocations || cause == Cause::threads_per_item || cause == Cause::line_sharing;
}

bool computes(Cause cause) {
  switch (cause) {
    case Cause::inflation_own:
    case Cause::inflation_one_worker:
    case Cause::inflation_machine:
    case Cause::extra_work:
    case Cause::fresh_memory:
    case Cause::kernel_time:
    case Cause::small_pieces:
    case Cause::allocations:
    case Cause::line_sharing:
    case Cause::spinning:
    case Cause::slower_clocks:
    case Cause::hardware_threads:
      return true;
    default:
      return false;
  }
}

double most_of_workers(const Ledger& ledger, double removed_s) {
  // What one worker needs for all of it. Without an own time with one worker, the baseline's, or less where it did
  // less.
  const double alone_s = ledger.one_worker_s.value_or(ledger.necessary_s + std::min(0.0, ledger.work_change_s));
  const double work_s =
      std::max(std::min(ledger.necessary_s, alone_s), alone_s - std::max(0.0, removed_s)) + std::max(0.0, -removed_s);
  const double by_workers = ledger.lanes * ledger.necessary_s / std::max(1e-12, work_s);
  const double on_processors_s = ledger.processors_s - removed_s / ledger.processors;
  if (!(on_processors_s > 0)) return by_workers;
  return std::min(by_workers, ledger.necessary_s / on_processors_s);
}

void keep_promises(const CellFigures& cell, const std::vector<Ledger>& ledgers, std::vector<Finding>& losses) {
  if (!cell.speedup || ledgers.empty()) return;
  const double reached = measured(cell);
  for (Finding& loss : losses) {
    if (!loss.gain_speedup) continue;
    loss.gain_speedup = std::min(*loss.gain_speedup, most_over(ledgers, loss));
    if (loss.loss_s >= 0) loss.gain_speedup = std::max(*loss.gain_speedup, reached);
  }
  agree_on_limit(middle_of(ledgers), reached, losses);
}

}  // namespace antcrew::internal
