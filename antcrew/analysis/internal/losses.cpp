#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/internal/finding_families.hpp"

namespace antcrew::internal {
namespace {

constexpr double least_share = 0.05;  // of lanes × wall: smaller losses are not told

const Loss* loss_of(const Ledger& ledger, Cause cause) {
  for (const Loss& loss : ledger.losses) {
    if (loss.cause == cause) return &loss;
  }
  return nullptr;
}

double share_of(const Ledger& ledger, const Loss& loss) {
  return ledger.lane_seconds() > 0 ? loss.loss_s / ledger.lane_seconds() : 0;
}

// Taking turns at a lock costs CPU time, too (its words move between caches, sleepers are woken): how much of what the
// work takes more than the baseline's is that, nobody can tell, so that at most all of it goes with the waits.
double cost_of_turns(const Ledger& ledger) {
  double all_s = 0;
  for (const Cause cause : {Cause::inflation_own, Cause::inflation_one_worker}) {
    const Loss* loss = loss_of(ledger, cause);
    if (loss != nullptr) all_s += std::max(0.0, loss->loss_s);
  }
  return all_s;
}

// Causes that make bodies longer: without them pieces, steps and what is done in turn may be shorter, too.
bool lengthens_bodies(Cause cause) {
  switch (cause) {
    case Cause::blocked:
    case Cause::lock_wait:
    case Cause::shared_processor:
    case Cause::oversubscribed:
    case Cause::quota:
    case Cause::inflation_own:
    case Cause::inflation_one_worker:
    case Cause::inflation_machine:
    case Cause::extra_work:
    case Cause::fresh_memory:
    case Cause::small_pieces:
      return true;
    default:
      return false;
  }
}

bool lifts(Cause cause, const std::string& floor) {
  return (cause == Cause::sequential_stretch && floor == "serial") || (cause == Cause::lock_wait && floor == "lock") ||
         (cause == Cause::slow_stage && floor == "stage") ||
         ((cause == Cause::uneven_pieces || cause == Cause::not_divisible) && floor == "piece");
}

// What stands in the way of a shorter call once this cause is gone: its own floor goes with it, and of others as much
// as may have been in them.
double floor_without(const Ledger& ledger, const Loss& loss) {
  const double turns_s = loss.cause == Cause::lock_wait ? cost_of_turns(ledger) : 0;
  const double within_s = lengthens_bodies(loss.cause) ? loss.loss_s + turns_s : 0;
  double floor_s = loss.limit_s;
  for (const auto& [what, seconds] : ledger.floors) {
    if (!lifts(loss.cause, what)) floor_s = std::max(floor_s, seconds - within_s);
  }
  // The processors stay as many as they are; what is CPU time itself need not pass through them any more.
  const bool computes = loss.cause == Cause::inflation_own || loss.cause == Cause::inflation_one_worker ||
                        loss.cause == Cause::inflation_machine || loss.cause == Cause::extra_work ||
                        loss.cause == Cause::fresh_memory || loss.cause == Cause::small_pieces;
  const double spared_s = (computes ? loss.loss_s : turns_s) / ledger.processors;
  return std::max(floor_s, ledger.processors_s - spared_s);
}

// How many times shorter the call would be at most.
double gain_of(const Ledger& ledger, const Loss& loss) {
  if (loss.loss_s < 0) return ledger.wall_s / ((ledger.lane_seconds() - loss.loss_s) / ledger.lanes);
  const double turns_s = loss.cause == Cause::lock_wait ? cost_of_turns(ledger) : 0;
  const double left_s = (ledger.lane_seconds() - loss.loss_s - turns_s) / ledger.lanes;
  const double then_s = std::max({left_s, floor_without(ledger, loss), 1e-12});
  return std::max(1.0, ledger.wall_s / then_s);
}

const Ledger& middle_of(const std::vector<Ledger>& ledgers) {
  std::vector<const Ledger*> sorted;
  for (const Ledger& ledger : ledgers) sorted.push_back(&ledger);
  std::sort(sorted.begin(), sorted.end(), [](const Ledger* a, const Ledger* b) { return a->wall_s < b->wall_s; });
  return *sorted[sorted.size() / 2];
}

// What the data cannot tell apart from each other.
void doubt(Finding& finding, const Loss& loss) {
  const bool one = loss.figures.has("one_worker_s");
  if (loss.cause == Cause::inflation_own) {
    if (!one) {
      finding.sure = Finding::Sure::open;
      finding.or_else = id_of(Cause::inflation_one_worker);
    } else if (!loss.figures.has("crowd")) {
      finding.sure = Finding::Sure::open;
      finding.or_else = id_of(Cause::inflation_machine);
    }
  }
  if (loss.cause == Cause::inflation_machine) finding.sure = Finding::Sure::likely;
}

Finding finding_of(const CellFigures& cell, const std::vector<Ledger>& ledgers, const Ledger& middle,
                   const Loss& loss) {
  Finding finding;
  finding.id = id_of(loss.cause);
  finding.kind = Finding::Kind::loss;
  finding.of = &cell;
  finding.name = loss.name;
  finding.figures = loss.figures;
  finding.figures["wall_s"] = middle.wall_s;
  std::vector<double> shares;
  std::vector<double> seconds;
  double gain = 0;
  int told = 0;
  int first = 0;
  for (const Ledger& ledger : ledgers) {
    const Loss* same = loss_of(ledger, loss.cause);
    shares.push_back(same == nullptr ? 0 : share_of(ledger, *same));
    seconds.push_back(same == nullptr ? 0 : same->loss_s);
    if (same == nullptr) continue;
    gain = std::max(gain, gain_of(ledger, *same));
    told += share_of(ledger, *same) >= least_share ? 1 : 0;
    first += !ledger.losses.empty() && ledger.losses.front().cause == loss.cause ? 1 : 0;
  }
  finding.share = median(shares);
  finding.loss_s = median(seconds);
  const int all = static_cast<int>(ledgers.size());
  const bool is_first = !middle.losses.empty() && middle.losses.front().cause == loss.cause;
  finding.sure = told == all && (!is_first || first == all) ? Finding::Sure::measured : Finding::Sure::likely;
  doubt(finding, loss);
  if (middle.sums->looks) {
    finding.figures["looks"] = middle.sums->looks->lanes;
    if (finding.sure == Finding::Sure::measured) finding.sure = Finding::Sure::likely;
    // Threads that stand by may wait for the caller to begin, or for it to end its part.
    const bool by = loss.figures.get("standing") > 0.5;
    if (loss.cause == Cause::no_ready_work || (loss.cause == Cause::sequential_stretch && by)) {
      finding.sure = Finding::Sure::open;
      finding.or_else = id_of(Cause::uneven_pieces);
    }
  }
  if (cell.speedup) {
    const double upper = cell.speedup->claimed ? cell.speedup->high : cell.speedup->median;
    finding.gain_speedup = upper * gain;
    if (middle.floor_s > 0 && middle.lanes > 1) {
      const double limit = middle.necessary_s / middle.floor_s;
      if (limit < 1000) {
        finding.limit_speedup = limit;
        finding.limit_by = middle.floor_by;
      }
    }
  }
  return finding;
}

// Where a ledger is withheld because calls or pieces are too short, their counts times the measured cost of one tell.
void add_counted(const CellFigures& cell, const std::vector<Ledger>& ledgers, std::vector<Finding>& findings) {
  if (ledgers.empty() || !cell.time_s) return;
  if (cell.cell->crew != "ThreadCrew" && cell.cell->crew != "TaskCrew") return;  // of processes it is their start
  const LaneSums& sums = *middle_of(ledgers).sums;
  double pieces = 0;
  for (const RegionFacts& region : sums.by_place) pieces += region.pieces;
  const double all_s = cell.time_s->median * sums.lanes;
  const auto add = [&](Cause cause, double loss_s, Figures figures) {
    const double share = all_s > 0 ? std::min(1.0, loss_s / all_s) : 0;
    if (share < least_share) return;
    Finding finding;
    finding.id = id_of(cause);
    finding.kind = Finding::Kind::loss;
    finding.of = &cell;
    finding.share = share;
    finding.loss_s = share * all_s;
    finding.sure = Finding::Sure::likely;
    finding.figures = std::move(figures);
    finding.figures["wall_s"] = cell.time_s->median;
    if (cell.speedup && share < 1) finding.gain_speedup = cell.speedup->high / std::max(1e-3, 1 - share);
    findings.push_back(std::move(finding));
  };
  // Who waits for a lock does so in the slowed call, too: most of what that takes is not the log's.
  const LockFacts* worst = nullptr;
  for (const LockFacts& lock : sums.locks) {
    if (worst == nullptr || lock.wait_s > worst->wait_s) worst = &lock;
  }
  if (worst != nullptr && sums.lane_seconds() > 0) {
    add(Cause::lock_wait, all_s * sums.parts_s[LaneState::lock] / sums.lane_seconds(),
        {{"waits", worst->waits}, {"wait_s", worst->wait_s}, {"holds", worst->holds}, {"hold_s", worst->hold_s}});
    if (!findings.empty() && findings.back().id == id_of(Cause::lock_wait)) findings.back().name = worst->name;
  }
  add(Cause::small_calls, sums.regions * sums.call_cost_s * sums.lanes,
      {{"calls", sums.regions}, {"call_cost_s", sums.call_cost_s}});
  add(Cause::small_pieces, pieces * sums.piece_cost_s, {{"pieces", pieces}, {"piece_cost_s", sums.piece_cost_s}});
}

// Processors that a hypervisor or a quota took, on average of the study.
double taken_processors(const Record& record) {
  double wall_s = 0;
  double taken_s = 0;
  for (const BlockFacts& block : record.blocks) {
    wall_s += block.wall_s;
    taken_s += block.steal_s + block.throttled_s;
  }
  return wall_s > 0 ? taken_s / wall_s : 0;
}

// A worker whose processor is taken away looks as if it slept, and the others wait for it.
bool looks_like_taken(const std::string& id) {
  for (const Cause cause : {Cause::blocked, Cause::uneven_pieces, Cause::late_start, Cause::no_ready_work,
                            Cause::inflation_machine, Cause::inflation_own, Cause::inflation_one_worker}) {
    if (id == id_of(cause)) return true;
  }
  return false;
}

}  // namespace

void add_losses(const Analysed& study, const CellFigures& cell, const std::vector<Ledger>& ledgers, bool whole,
                std::vector<Finding>& findings) {
  if (ledgers.empty() || cell.cell->kind != Cell::Kind::variant) return;
  if (!whole) return add_counted(cell, ledgers, findings);
  const Ledger& middle = middle_of(ledgers);
  const double taken = taken_processors(*study.record);
  for (const Loss& loss : middle.losses) {
    Finding finding = finding_of(cell, ledgers, middle, loss);
    if (finding.or_else.empty() && looks_like_taken(finding.id) && finding.loss_s <= taken * middle.wall_s) {
      finding.sure = Finding::Sure::open;
      finding.or_else = "noise";
      finding.figures["taken_processors"] = taken;
    }
    if (std::fabs(finding.share) >= least_share) findings.push_back(std::move(finding));
  }
}

}  // namespace antcrew::internal
