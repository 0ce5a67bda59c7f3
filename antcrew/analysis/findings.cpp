#include "antcrew/analysis/findings.hpp"

#include <algorithm>
#include <cmath>
#include <iterator>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/internal/finding_families.hpp"
#include "antcrew/analysis/internal/loss_figures.hpp"
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
  // Few events cannot have slowed a call: then the difference is noise.
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

// What is lost in portions too small to be told one by one.
double small_losses(const std::vector<Ledger>& ledgers, const std::vector<Finding>& losses) {
  std::vector<Cause> causes;
  for (const Loss& loss : internal::middle_of(ledgers).losses) {
    const bool lost = std::any_of(losses.begin(), losses.end(),
                                  [&](const Finding& f) { return f.id == id_of(loss.cause) && f.share > 0; });
    if (lost) causes.push_back(loss.cause);
  }
  return internal::loss_figures(ledgers, causes).share;
}

}  // namespace

std::vector<Finding> findings_of(const Analysed& study, const CellFigures& cell) {
  std::vector<Finding> findings;
  internal::add_meanings(study, cell, findings);
  const bool whole = withheld_because(study, cell).empty();
  const std::vector<Ledger> ledgers = sound(cell) ? ledgers_of(study, cell) : std::vector<Ledger>();
  const std::vector<Finding> losses = internal::all_losses(study, cell, ledgers, whole);
  if (whole && sound(cell)) internal::add_unused_crew(cell, ledgers, findings);
  std::copy_if(losses.begin(), losses.end(), std::back_inserter(findings), is_told);
  // Nor is all well where its time, or its speedup, does not mean what it seems to.
  const bool nothing_wrong = findings.empty();
  internal::add_remarks(study, cell, findings);
  if (nothing_wrong && sound(cell) && whole && cell.cell->kind == Cell::Kind::variant) {
    Finding fine;
    fine.id = "nothing-wrong";
    fine.of = &cell;
    const double small = small_losses(ledgers, losses);
    if (small >= internal::least_told_share) fine.figures["small_losses_share"] = small;
    findings.push_back(std::move(fine));
  }
  std::stable_sort(findings.begin(), findings.end(), [](const Finding& a, const Finding& b) {
    if (a.kind != b.kind) return a.kind < b.kind;
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
  // The headline's cell may have no ledger: one worker has little to explain.
  if (leader != nullptr && (leader->cell->workers > 1 || !leader->cell->metered.empty())) add(leader);
  if (leader == nullptr) add(fastest);
  for (const CellFigures& f : study.cells) {
    if (f.cell->point != study.conclusion.point || f.cell->kind != Cell::Kind::variant || !f.newest) continue;
    if (&study.cells[study.curves[f.curve].back()] == &f) add(&f);
  }
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
