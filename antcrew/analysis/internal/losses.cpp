#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/internal/finding_families.hpp"
#include "antcrew/analysis/internal/loss_figures.hpp"
#include "antcrew/analysis/internal/promises.hpp"
#include "antcrew/analysis/taken_processors.hpp"

namespace antcrew::internal {
namespace {

// What the data cannot tell apart from each other.
void doubt(Finding& finding, const Loss& loss) {
  const bool one = loss.figures.has("one_worker_s");
  // On one processor it computed no less: neither memory that all use at once nor lines that move slow it down.
  const bool as_much_on_one = loss.cause == Cause::inflation_own && loss.figures.has("one_place_cpu_s");
  if (as_much_on_one && one && !loss.figures.has("crowd")) finding.sure = Finding::Sure::likely;
  if (loss.cause == Cause::line_sharing) {
    finding.sure = loss.figures.has("crowd") ? Finding::Sure::likely : Finding::Sure::open;
    if (!loss.figures.has("crowd")) finding.or_else = id_of(Cause::inflation_machine);
  }
  if (loss.cause == Cause::slower_clocks || loss.cause == Cause::hardware_threads) {
    finding.sure = loss.figures.has("crowd") ? Finding::Sure::likely : Finding::Sure::open;
    if (!loss.figures.has("crowd")) finding.or_else = id_of(Cause::inflation_own);
  }
  if (loss.cause == Cause::inflation_own && !as_much_on_one) {
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
  const LossFigures figures = loss_figures(ledgers, {loss.cause});
  finding.share = figures.share;
  finding.loss_s = figures.loss_s;
  finding.sure = figures.sure;
  if (ledgers.size() == 1 && finding.sure == Finding::Sure::measured) finding.sure = Finding::Sure::likely;
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
    finding.gain_speedup = upper * figures.gain;
  }
  return finding;
}

double share_of(const Ledger& ledger, double seconds) {
  return ledger.lane_seconds() > 0 ? seconds / ledger.lane_seconds() : 0;
}

// The same calls, of whose uneven pieces only those at this place are known.
std::vector<Ledger> at_place(std::vector<Ledger> ledgers, Cause cause, const std::string& name) {
  for (Ledger& ledger : ledgers) {
    const auto loss = std::find_if(ledger.losses.begin(), ledger.losses.end(),
                                   [&](const Loss& of_call) { return of_call.cause == cause; });
    if (loss == ledger.losses.end()) continue;
    const auto place = std::find_if(loss->places.begin(), loss->places.end(),
                                    [&](const LossPlace& of_loss) { return of_loss.name == name; });
    const LossPlace known = place == loss->places.end() ? LossPlace() : *place;
    loss->loss_s = known.loss_s;
    loss->name = name;
    loss->figures = known.figures;
    loss->limit_s = std::max(0.0, ledger.wall_s - known.saved_s);
    loss->places.clear();
  }
  return ledgers;
}

// One finding for each place where much is lost, with what mending all of them brings; one for all where they are few.
void add_by_place(const CellFigures& cell, const std::vector<Ledger>& ledgers, const Ledger& middle, const Loss& loss,
                  std::vector<Finding>& losses) {
  std::vector<const LossPlace*> large;
  for (const LossPlace& place : loss.places) {
    if (share_of(middle, place.loss_s) >= least_told_share) large.push_back(&place);
  }
  const Finding joint = finding_of(cell, ledgers, middle, loss);
  if (large.size() < 2) return losses.push_back(joint);
  std::stable_sort(large.begin(), large.end(),
                   [](const LossPlace* a, const LossPlace* b) { return a->loss_s > b->loss_s; });
  double elsewhere_s = loss.loss_s;
  for (const LossPlace* place : large) {
    elsewhere_s -= place->loss_s;
    const std::vector<Ledger> here = at_place(ledgers, loss.cause, place->name);
    const Ledger& middle_here = middle_of(here);
    const auto alone = std::find_if(middle_here.losses.begin(), middle_here.losses.end(),
                                    [&](const Loss& of_call) { return of_call.cause == loss.cause; });
    Finding& finding = losses.emplace_back(finding_of(cell, here, middle_here, *alone));
    finding.figures["places"] = static_cast<double>(large.size());
    if (joint.gain_speedup) finding.figures["joint_speedup"] = *joint.gain_speedup;
  }
  if (elsewhere_s > 0) losses[losses.size() - large.size()].figures["other_places_s"] = elsewhere_s;
}

// Where a ledger is withheld because calls or pieces are too short, their counts times the measured cost of one tell.
std::vector<Finding> counted_losses(const CellFigures& cell, const std::vector<Ledger>& ledgers) {
  std::vector<Finding> losses;
  if (!cell.time_s) return losses;
  const std::string& crew = cell.cell->crew;
  if (crew != "ThreadCrew" && crew != "TaskCrew" && crew != "Workers") return losses;  // of processes it is their start
  const LaneSums& sums = *middle_of(ledgers).sums;
  double pieces = 0;
  for (const RegionFacts& region : sums.by_place) pieces += region.pieces;
  const double all_s = cell.time_s->median * sums.lanes;
  const auto add = [&](Cause cause, double loss_s, const std::string& name, Figures figures) {
    const double share = all_s > 0 ? std::min(1.0, loss_s / all_s) : 0;
    if (!(share > 0)) return;
    Finding finding;
    finding.id = id_of(cause);
    finding.kind = Finding::Kind::loss;
    finding.of = &cell;
    finding.share = share;
    finding.loss_s = share * all_s;
    finding.sure = Finding::Sure::likely;
    finding.name = name;
    finding.figures = std::move(figures);
    finding.figures["wall_s"] = cell.time_s->median;
    // What else goes with it is not known: at most what the workers bring, at the baseline's work or at its own with
    // one worker, whichever is less.
    const double alone = ledgers.front().one_worker_s.value_or(ledgers.front().necessary_s);
    const double most = sums.lanes * ledgers.front().necessary_s / std::min(ledgers.front().necessary_s, alone);
    // Where there were too few rounds for an interval, its upper end may be anything.
    if (cell.speedup)
      finding.gain_speedup = std::max(cell.speedup->claimed ? cell.speedup->high : cell.speedup->median, most);
    losses.push_back(std::move(finding));
  };
  // Who waits for a lock does so in the slowed call, too: most of what that takes is not the log's.
  const LockFacts* worst = nullptr;
  for (const LockFacts& lock : sums.locks) {
    if (worst == nullptr || lock.wait_s > worst->wait_s) worst = &lock;
  }
  const bool of_library = worst != nullptr && !worst->place.empty();
  if (worst != nullptr && sums.lane_seconds() > 0 && (!sums.looks || of_library)) {
    // Threads in no lane counted their waits themselves.
    const double waited_s = sums.looks ? worst->wait_s : sums.parts_s[LaneState::lock];
    add(Cause::lock_wait, all_s * waited_s / sums.lane_seconds(),
        of_library ? worst->name + " at " + worst->place : worst->name,
        {{"waits", worst->waits},
         {"wait_s", worst->wait_s},
         {"holds", worst->holds},
         {"hold_s", worst->hold_s},
         {"of_library", of_library ? 1.0 : 0.0}});
  }
  constexpr double many_threads = 4;  // a worker
  if (sums.library && sums.library->threads >= many_threads * sums.lanes) {
    const LibraryCounts& counts = *sums.library;
    add(Cause::threads_per_item, sums.lanes * std::max(counts.beginning_s, counts.threads * sums.thread_cost_s), "",
        {{"threads", counts.threads}, {"thread_cost_s", sums.thread_cost_s}, {"beginning_s", counts.beginning_s}});
  }
  // What short calls take beside their bodies, in the timed calls, is their price; back to back empty ones take less.
  constexpr double short_s = 200e-6;
  double known = 0;
  double bodies_s = 0;
  double regions_s = 0;
  for (const RegionFacts& region : sums.by_place) {
    known += static_cast<double>(region.calls);
    bodies_s += region.body_s;
    regions_s += region.wall_s;
  }
  double calls_s = sums.regions * sums.call_cost_s;
  constexpr double many = 100;
  if (sums.regions >= many && known >= 0.9 * sums.regions && regions_s < short_s * known) {
    // The log makes bodies and what lies between calls longer, too: together no more than the work itself.
    const double work_s = ledgers.front().necessary_s;
    const double in_bodies_s = std::min(bodies_s, work_s);
    const double between_s = std::min(sums.parts_s[LaneState::serial], work_s - in_bodies_s);
    calls_s = std::max(calls_s, cell.time_s->median - between_s - in_bodies_s / sums.lanes);
  }
  add(Cause::small_calls, calls_s * sums.lanes, "",
      {{"calls", sums.regions},
       {"call_cost_s", sums.call_cost_s},
       {"in_place_s", sums.regions > 0 ? calls_s / sums.regions : 0}});
  // Pieces of short calls are part of their price.
  const double left_s = std::max(0.0, all_s - calls_s * sums.lanes);
  add(Cause::small_pieces, std::min(left_s, pieces * sums.piece_cost_s + sums.forks * sums.fork_cost_s), "",
      {{"pieces", pieces},
       {"piece_cost_s", sums.piece_cost_s},
       {"forks", sums.forks},
       {"fork_cost_s", sums.fork_cost_s}});
  return losses;
}

// A worker whose processor is taken away looks as if it slept, and the others wait for it.
bool looks_like_taken(const std::string& id) {
  for (const Cause cause : {Cause::blocked, Cause::uneven_pieces, Cause::late_start, Cause::no_ready_work,
                            Cause::inflation_machine, Cause::inflation_own, Cause::inflation_one_worker,
                            Cause::line_sharing, Cause::slower_clocks, Cause::hardware_threads, Cause::late_message}) {
    if (id == id_of(cause)) return true;
  }
  return false;
}

}  // namespace

std::vector<Finding> all_losses(const Analysed& study, const CellFigures& cell, const std::vector<Ledger>& ledgers,
                                bool whole) {
  std::vector<Finding> losses;
  if (ledgers.empty() || cell.cell->kind != Cell::Kind::variant) return losses;
  if (!whole) return counted_losses(cell, ledgers);
  const Ledger& middle = middle_of(ledgers);
  const double taken = taken_processors(*study.record, *cell.cell);
  for (const Loss& loss : middle.losses) add_by_place(cell, ledgers, middle, loss, losses);
  for (Finding& finding : losses) {
    const bool room_for_it = finding.loss_s <= taken * middle.wall_s;
    const bool busy = taken >= much_taken;
    const bool own = finding.id == id_of(Cause::inflation_own) && finding.sure == Finding::Sure::open;
    if ((finding.or_else.empty() || busy) && looks_like_taken(finding.id) && (room_for_it || (busy && own))) {
      finding.sure = Finding::Sure::open;
      finding.or_else = "noise";
      finding.figures["taken_processors"] = taken;
    }
  }
  keep_promises(cell, ledgers, losses);
  return losses;
}

}  // namespace antcrew::internal
