#include "antcrew/analysis/findings.hpp"

#include <algorithm>
#include <cmath>
#include <iterator>

#include <fmt/format.h>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/internal/finding_families.hpp"
#include "antcrew/analysis/internal/loss_figures.hpp"
#include "antcrew/analysis/internal/promises.hpp"
#include "antcrew/analysis/sizes.hpp"

namespace antcrew::analysis_layer {

const char* name_of(Finding::Kind kind) noexcept {
  return kind == Finding::Kind::meaning ? "meaning" : kind == Finding::Kind::loss ? "loss" : "remark";
}

const char* name_of(Finding::Sure sure) noexcept {
  return sure == Finding::Sure::measured ? "measured" : sure == Finding::Sure::likely ? "likely" : "open";
}

namespace {

bool sound(const CellFigures& cell) {
  return cell.verdict >= Verdict::too_few_rounds && cell.time_s.has_value();
}

constexpr double most_slowdown = 0.05;  // a call that its log slowed by more is not explained by it

bool no_time_for(const Analysed& study, const CellFigures& cell) {
  const auto& left = study.record->left_out;
  return std::any_of(left.begin(), left.end(), [&](const LeftOut& what) {
    return what.what == LeftOut::What::metering && what.point == cell.cell->point;
  });
}

}  // namespace

std::string withheld_because(const Analysed& study, const CellFigures& cell) {
  const std::vector<Ledger> ledgers = ledgers_of(study, cell);
  if (ledgers.empty() && cell.verdict == Verdict::not_measured && !cell.evidence.empty()) return cell.evidence;
  if (ledgers.empty())
    return no_time_for(study, cell) ? "there was no time for an instrumented run" : "it has no instrumented run";
  std::vector<double> slowdowns;
  std::vector<double> shares;
  for (const Ledger& ledger : ledgers) {
    if (!ledger.withheld.empty()) return ledger.withheld;
    if (ledger.slowdown) slowdowns.push_back(*ledger.slowdown);
    shares.push_back(ledger.lane_seconds() > 0 ? ledger.metering_s / ledger.lane_seconds() : 0);
  }
  // So much longer they are other calls than the timed ones, by their log or by what else the machine did.
  constexpr double another_call = 0.5;
  const auto& calls = cell.cell->metered;
  const bool disturbed =
      std::all_of(calls.begin(), calls.end(), [&](const LaneSums& sums) { return was_disturbed(sums, *cell.cell); });
  const double slower = slowdowns.empty() ? 0 : median(slowdowns);
  if (disturbed || slower > another_call)
    return fmt::format(
        "the instrumented calls took {:.2g} times as long as those without a log, by the log or by a busy machine: "
        "what "
        "they show is not where the time of the others went",
        disturbed ? internal::middle_of(ledgers).wall_s / cell.time_s->median : 1 + slower);
  // Few events cannot have slowed a call by little: then the difference is noise.
  constexpr double noticed = 0.01;
  if (!slowdowns.empty() && median(slowdowns) > most_slowdown && median(shares) > noticed)
    return "the log slowed the call by more than 5 %: its pieces or calls are too short to be told one by one";
  return {};
}

std::vector<Finding> losses_of(const Analysed& study, const CellFigures& cell) {
  if (!sound(cell)) return {};
  return internal::all_losses(study, cell, ledgers_of(study, cell), withheld_because(study, cell).empty());
}

bool is_told(const Finding& loss) noexcept {
  return std::fabs(loss.share) >= internal::least_told_share;
}

namespace {

constexpr double many_small =
    0.1;  // of the workers' time: losses that come to so much are told, each as small as it is

// What is lost in portions too small to be told one by one, with what has no owner.
Finding small_losses(const CellFigures& cell, const std::vector<Ledger>& ledgers, const std::vector<Finding>& losses) {
  Finding all;
  all.id = "many-small-losses";
  all.kind = Finding::Kind::loss;
  all.of = &cell;
  all.sure = Finding::Sure::likely;
  std::vector<Cause> causes;
  std::vector<Finding> largest_first = losses;
  std::stable_sort(largest_first.begin(), largest_first.end(),
                   [](const Finding& a, const Finding& b) { return a.share > b.share; });
  for (const Finding& loss : largest_first) {
    constexpr double worth_a_word = 0.005;
    if (is_told(loss) || loss.share < worth_a_word) continue;
    for (const Loss& one : internal::middle_of(ledgers).losses) {
      if (loss.id == id_of(one.cause)) causes.push_back(one.cause);
    }
    all.name += fmt::format("{}{} {:.1f} %", all.name.empty() ? "" : ", ", loss.id, 100 * loss.share);
  }
  const internal::LossFigures figures = internal::loss_figures(ledgers, causes);
  all.share = figures.share;
  all.loss_s = figures.loss_s;
  all.figures["losses"] = static_cast<double>(causes.size());
  if (cell.speedup && figures.gain > 0) {
    const double reached = cell.speedup->claimed ? cell.speedup->high : cell.speedup->median;
    const double most = internal::most_of_workers(internal::middle_of(ledgers), figures.loss_s);
    all.gain_speedup = std::max(reached, std::min(reached * figures.gain, most));
  }
  return all;
}

// Work that mostly waits, as the baseline's does, and loses nothing: its waits can overlap further than there are
// processors. What twice as many workers would bring is told, where that count was not tried.
bool add_waits_can_overlap(const Analysed& study, const CellFigures& cell, const std::vector<Ledger>& ledgers,
                           std::vector<Finding>& findings) {
  constexpr double mostly = 0.5;
  const Ledger& middle = internal::middle_of(ledgers);
  const std::vector<std::size_t>& curve = study.curves[cell.curve];
  if (&study.cells[curve.back()] != &cell || cell.cell->workers < 2 || !cell.speedup) return false;
  if (cell.cell->crew != "ThreadCrew" && cell.cell->crew != "Workers" && cell.cell->crew != "TaskCrew") return false;
  const double waiting_s = middle.parts_s[LaneState::blocked];
  if (waiting_s < mostly * middle.lane_seconds()) return false;
  double floor_s = middle.processors_s;
  for (const auto& [what, seconds] : middle.floors) floor_s = std::max(floor_s, seconds);
  const double then_s = std::max(middle.wall_s / 2, floor_s);
  constexpr double worth_telling = 0.8;
  if (then_s > worth_telling * middle.wall_s) return false;
  Finding& finding = findings.emplace_back();
  finding.id = "waits-can-overlap";
  finding.of = &cell;
  finding.sure = Finding::Sure::likely;
  finding.figures = {{"workers", cell.cell->workers},
                     {"more_workers", 2.0 * cell.cell->workers},
                     {"waiting_share", waiting_s / middle.lane_seconds()},
                     {"speedup", cell.speedup->median * middle.wall_s / then_s}};
  return true;
}

// The middle call is what a reader sees: where it lost much of one kind, that is told, though other calls did not.
bool add_lost_once(const std::vector<Ledger>& ledgers, const std::vector<Finding>& losses,
                   std::vector<Finding>& findings) {
  const Ledger& middle = internal::middle_of(ledgers);
  if (middle.losses.empty() || middle.losses.front().loss_s < many_small * middle.lane_seconds()) return false;
  const Loss& largest = middle.losses.front();
  const auto found =
      std::find_if(losses.begin(), losses.end(), [&](const Finding& f) { return f.id == id_of(largest.cause); });
  if (found == losses.end()) return false;
  findings.push_back(*found);
  findings.back().share = largest.loss_s / middle.lane_seconds();
  findings.back().loss_s = largest.loss_s;
  findings.back().sure = Finding::Sure::open;
  findings.back().or_else = "noise";
  return true;
}

}  // namespace

std::vector<Finding> findings_of(const Analysed& study, const CellFigures& cell) {
  std::vector<Finding> findings;
  internal::add_meanings(study, cell, findings);
  const bool whole = withheld_because(study, cell).empty();
  const std::vector<Ledger> ledgers = sound(cell) ? ledgers_of(study, cell) : std::vector<Ledger>();
  const std::vector<Finding> losses = internal::all_losses(study, cell, ledgers, whole);
  const bool explained = whole && sound(cell) && cell.cell->kind == Cell::Kind::variant;
  if (whole && sound(cell)) internal::add_unused_crew(cell, ledgers, findings);
  std::copy_if(losses.begin(), losses.end(), std::back_inserter(findings), is_told);
  // Nor is all well where its time, or its speedup, does not mean what it seems to.
  const bool nothing_wrong = findings.empty();
  internal::add_remarks(study, cell, findings);
  if (explained) {
    Finding small = small_losses(cell, ledgers, losses);
    const double small_share = small.share;
    if (small_share >= many_small) findings.push_back(std::move(small));
    if (nothing_wrong && small_share < many_small && !add_lost_once(ledgers, losses, findings) &&
        !add_waits_can_overlap(study, cell, ledgers, findings)) {
      Finding fine;
      fine.id = "nothing-wrong";
      fine.of = &cell;
      if (small_share >= internal::least_told_share) fine.figures["small_losses_share"] = small_share;
      findings.push_back(std::move(fine));
    }
  }
  std::stable_sort(findings.begin(), findings.end(), [](const Finding& a, const Finding& b) {
    if (a.kind != b.kind) return a.kind < b.kind;
    const auto is_rest = [](const Finding& f) { return f.id == "many-small-losses"; };
    if (is_rest(a) != is_rest(b)) return is_rest(b);
    return a.kind == Finding::Kind::loss && a.share > b.share;
  });
  return findings;
}

std::vector<const CellFigures*> explained_cells(const Analysed& study) {
  std::vector<const CellFigures*> cells;
  const auto add = [&](const CellFigures* cell) {
    if (cell != nullptr && std::find(cells.begin(), cells.end(), cell) == cells.end()) cells.push_back(cell);
  };
  const CellFigures* fastest = nullptr;
  for (const CellFigures& f : study.cells) {
    if (f.cell->point != study.conclusion.point || f.cell->kind != Cell::Kind::variant || !f.newest) continue;
    if (f.speedup && (fastest == nullptr || f.speedup->median > fastest->speedup->median)) fastest = &f;
  }
  const CellFigures* leader = study.conclusion.leader;
  // One worker has little to explain: where it is in front, what its variant loses with more of them comes first.
  const CellFigures* front = leader != nullptr ? leader : fastest;
  if (front != nullptr) add(front->cell->workers > 1 ? front : &study.cells[study.curves[front->curve].back()]);
  for (const CellFigures& f : study.cells) {
    if (f.cell->point != study.conclusion.point || f.cell->kind != Cell::Kind::variant || !f.newest) continue;
    if (&study.cells[study.curves[f.curve].back()] == &f) add(&f);
  }
  if (front != nullptr && !front->cell->metered.empty()) add(front);
  return cells;
}

std::vector<Finding> findings_of_study(const Analysed& study) {
  std::vector<Finding> findings = study.remarks;
  const bool open = study.conclusion.answer == Conclusion::Kind::cannot_tell;
  const bool few = std::any_of(study.cells.begin(), study.cells.end(),
                               [](const CellFigures& f) { return f.verdict == Verdict::too_few_rounds; });
  if (open && few) findings.emplace_back().id = "too-few-rounds";
  for (const CacheStep& step : cache_steps_of(study)) {
    Finding& finding = findings.emplace_back();
    finding.id = "cache-step";
    finding.of = step.of;
    finding.sure = Finding::Sure::likely;
    finding.figures = {{"level", step.level},
                       {"cache_bytes", step.cache_bytes},
                       {"from_bytes", step.from_bytes},
                       {"to_bytes", step.to_bytes},
                       {"from_size", static_cast<double>(step.from_size)},
                       {"to_size", static_cast<double>(step.to_size)},
                       {"ratio", step.ratio}};
  }
  // What was said of a cell need not be said again of some cells.
  for (const CellFigures* cell : explained_cells(study)) {
    for (const Finding& told : findings_of(study, *cell)) {
      findings.erase(std::remove_if(findings.begin(), findings.end(),
                                    [&](const Finding& f) { return f.of == nullptr && f.id == told.id; }),
                     findings.end());
    }
  }
  std::stable_sort(findings.begin(), findings.end(),
                   [](const Finding& a, const Finding& b) { return a.kind < b.kind; });
  return findings;
}

std::vector<Finding> findings_of(const Analysed& study) {
  std::vector<Finding> all = findings_of_study(study);
  const auto remarks =
      std::find_if(all.begin(), all.end(), [](const Finding& f) { return f.kind == Finding::Kind::remark; });
  std::vector<Finding> of_cells;
  for (const CellFigures* cell : explained_cells(study)) {
    for (Finding& finding : findings_of(study, *cell)) of_cells.push_back(std::move(finding));
  }
  all.insert(remarks, std::make_move_iterator(of_cells.begin()), std::make_move_iterator(of_cells.end()));
  return all;
}

}  // namespace antcrew::analysis_layer
